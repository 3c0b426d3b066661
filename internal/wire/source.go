package wire

// ChangedSource changes where a source is read; what is empty stays as it is.
type ChangedSource struct {
	Path             string `json:"path,omitempty"`
	Address          string `json:"address,omitempty"`
	Database         string `json:"database,omitempty"`
	DatabasePassword string `json:"database_password,omitempty"`
	Prefix           string `json:"prefix,omitempty" pattern:"^[A-Za-z0-9_]+$" maxLength:"60"`
	SubSite          string `json:"sub_site,omitempty" maxLength:"250"`
	ConfirmAccount   bool   `json:"confirm_account,omitempty" doc:"take the account of its database though it may read other databases; for owners"`
}

// Source is a site that starters are built from.
type Source struct {
	Name    string  `json:"name"`
	Host    string  `json:"host"`
	Path    string  `json:"path"`
	Kind    string  `json:"kind"`
	Version string  `json:"version"`
	Address string  `json:"address"`
	Network bool    `json:"network,omitempty" doc:"it is a network of several sites"`
	SubSite string  `json:"sub_site,omitempty" doc:"the one of a network that it is"`
	Survey  *Survey `json:"survey,omitempty"`
	// Accepted are findings that are known, and harmless.
	Accepted []Acceptance `json:"accepted,omitempty" doc:"of one source, not in lists"`
}

// NewSource makes a source. Kind, database and table prefix are found out unless they are given.
type NewSource struct {
	Name             string `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"60"`
	Host             string `json:"host"`
	Path             string `json:"path" doc:"its web root, below the host's files"`
	Kind             string `json:"kind,omitempty"`
	Address          string `json:"address,omitempty"`
	Database         string `json:"database,omitempty"`
	DatabasePassword string `json:"database_password,omitempty"`
	Prefix           string `json:"prefix,omitempty" pattern:"^[A-Za-z0-9_]+$" maxLength:"60" doc:"of its tables; read from its settings file unless given"`
	SubSite          string `json:"sub_site,omitempty" maxLength:"250" doc:"of a network: its host name, folder or number; the source is then that site alone"`
	ConfirmAccount   bool   `json:"confirm_account,omitempty" doc:"take the account of its database though it may read other databases; for owners"`
	Ask              bool   `json:"ask,omitempty" doc:"place a page in its folder for one request, that tells how it reaches its database"`
}
