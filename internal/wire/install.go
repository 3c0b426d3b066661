package wire

import "time"

// Install is code on a host that several sites share.
type Install struct {
	Name    string        `json:"name"`
	Host    string        `json:"host"`
	MadeAt  time.Time     `json:"made_at"`
	Tenants int           `json:"tenants" doc:"sites that share its code"`
	Codes   []InstallCode `json:"codes,omitempty" doc:"of one install, not in lists; newest first"`
	Sites   []Tenant      `json:"sites,omitempty" doc:"of one install, not in lists"`
}

// InstallCode is the code of one release in an install.
type InstallCode struct {
	Release string    `json:"release"`
	Folder  string    `json:"folder" doc:"below the host's files"`
	Files   int64     `json:"files"`
	Bytes   int64     `json:"bytes"`
	MadeAt  time.Time `json:"made_at"`
	Tenants int       `json:"tenants" doc:"sites that share it"`
	Copies  int       `json:"copies" doc:"safety copies of sites that shared it"`
}

// Tenant is a site that shares code.
type Tenant struct {
	Site    string      `json:"site"`
	Address string      `json:"address"`
	Release string      `json:"release" doc:"whose code it shares"`
	Checks  CheckCounts `json:"checks"`
}

// NewInstall asks for code that sites can share.
type NewInstall struct {
	Name string `json:"name" pattern:"^[a-z0-9]([a-z0-9-]*[a-z0-9])?$" maxLength:"63"`
	Host string `json:"host" minLength:"1"`
	From string `json:"from" minLength:"1" doc:"release, like music-base@3 or music-base for the newest"`
}

// NewInstallCode asks for all sites of an install to share the code of a release, or of what they had before.
type NewInstallCode struct {
	To      string   `json:"to,omitempty" doc:"release; the newest of the install's starter unless given"`
	First   []string `json:"first,omitempty" doc:"sites that come before the others, in this order"`
	Despite Despite  `json:"despite,omitzero"`
	Mark    string   `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// InstallPlan is what will be done with the sites of an install, in order. Each is checked before the next is begun.
type InstallPlan struct {
	Install  string       `json:"install"`
	Host     string       `json:"host"`
	Release  string       `json:"release,omitempty" doc:"whose code they will share; none where each goes back to what it had"`
	Place    bool         `json:"place" doc:"that code is placed first"`
	Sites    []TenantPlan `json:"sites"`
	Problems []string     `json:"problems" format:"sentence"`
	Ready    bool         `json:"ready"`
	Mark     string       `json:"mark"`
}

// TenantPlan is what will be done with a site that shares code.
type TenantPlan struct {
	Site    string `json:"site"`
	Address string `json:"address"`
	From    string `json:"from"`
	To      string `json:"to"`
	There   bool   `json:"there" doc:"it shares that already, and stays"`
}

// InstallMade is code that was placed.
type InstallMade struct {
	Install string `json:"install"`
	Release string `json:"release"`
	Files   int64  `json:"files"`
	Bytes   int64  `json:"bytes"`
	Shared  int    `json:"shared" doc:"names by which a site leads there"`
}

// InstallResult is what became of the sites of an install.
type InstallResult struct {
	Install string          `json:"install"`
	Release string          `json:"release,omitempty"`
	Sites   []TenantOutcome `json:"sites"`
	Done    int             `json:"done"`
}

// TenantOutcome is what became of a site that shares code.
type TenantOutcome struct {
	Site   string `json:"site"`
	Status string `json:"status" enum:"done,there,failed,waiting"`
	Error  string `json:"error,omitempty" format:"sentence"`
	RunID  int64  `json:"run_id,omitempty"`
	Faults int    `json:"faults"`
}
