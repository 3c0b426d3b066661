package wire

import "time"

// NewSite asks for a site, or for its plan.
type NewSite struct {
	Client        string            `json:"client" minLength:"1"`
	From          string            `json:"from,omitempty" doc:"release, like music-base@3 or music-base for the newest; of a tenant, the one whose code its install has placed last"`
	Host          string            `json:"host,omitempty" doc:"of a tenant, that of its install"`
	TenantOf      string            `json:"tenant_of,omitempty" doc:"install whose code it shares"`
	OwnCode       bool              `json:"own_code,omitempty" doc:"with replace, of a site that shares code: give it code of its own"`
	Name          string            `json:"name,omitempty" doc:"the client's name unless given"`
	Address       string            `json:"address,omitempty" doc:"by the host's pattern unless given"`
	Set           map[string]string `json:"set,omitempty"`
	Visible       bool              `json:"visible,omitempty" doc:"to search engines"`
	Replace       bool              `json:"replace,omitempty" doc:"the site of this name, which is kept as a safety copy"`
	Keep          []string          `json:"keep,omitempty" doc:"parts of the old site that the new one takes over, by the kind's names"`
	Hold          bool              `json:"hold,omitempty" doc:"keep visitors out until it is opened"`
	Mail          bool              `json:"mail,omitempty" doc:"let its mail go out, though search engines are kept out or visitors are: a preview keeps it"`
	MailAddresses bool              `json:"mail_addresses,omitempty" doc:"change mail addresses at the source's host too"`
	Mend          bool              `json:"mend,omitempty" doc:"put lengths right in serialised values that are broken in the source"`
	Despite       Despite           `json:"despite,omitzero"`
	Plan          string            `json:"plan,omitempty" doc:"the mark of the plan that was looked at; another plan is refused"`
}

// NewTable asks for a site for each row.
type NewTable struct {
	From          string     `json:"from,omitempty" doc:"of tenants, the release whose code their install has placed last unless given"`
	Host          string     `json:"host,omitempty" doc:"of tenants, that of their install"`
	TenantOf      string     `json:"tenant_of,omitempty" doc:"install whose code they share"`
	Visible       bool       `json:"visible,omitempty"`
	Hold          bool       `json:"hold,omitempty"`
	Mail          bool       `json:"mail,omitempty" doc:"goes out, though they are previews"`
	MailAddresses bool       `json:"mail_addresses,omitempty" doc:"change mail addresses at the source's host too"`
	Mend          bool       `json:"mend,omitempty" doc:"put lengths right in serialised values that are broken in the source"`
	Rows          []TableRow `json:"rows" minItems:"1" maxItems:"1000"`
}

// TableRow is a site to make. A client that is not there is added, with the values as its settings; of one that is
// there they are for this site alone.
type TableRow struct {
	Client  string            `json:"client" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"63"`
	Name    string            `json:"name,omitempty"`
	Address string            `json:"address,omitempty"`
	Set     map[string]string `json:"set,omitempty"`
}

// TablePlan is what making a site for each row will do.
type TablePlan struct {
	Rows  []TableRowPlan `json:"rows"`
	Ready int            `json:"ready"` // rows that would be made
	There int            `json:"there"` // rows whose site is there already, and that are passed over
	Wrong int            `json:"wrong"` // rows that would fail
}

// TableRowPlan is what one row will do.
type TableRowPlan struct {
	Site      string   `json:"site"`
	Client    string   `json:"client"`
	NewClient bool     `json:"new_client,omitempty"` // is added
	Address   string   `json:"address"`
	There     bool     `json:"there,omitempty"`
	Ready     bool     `json:"ready"`
	Problems  []string `json:"problems" format:"sentence"`
}

// Plan is what making a site will do.
type Plan struct {
	SitePlan
	Fields []Field `json:"fields"`
	Ready  bool    `json:"ready"`
	Mark   string  `json:"mark" doc:"differs when anything the plan says differs, but for free space"`
}

// UndoPlan is what undoing the last provisioning of a site will do.
type UndoPlan struct {
	Site      string   `json:"site"`
	Sentences []string `json:"sentences" format:"sentence"`
	Mark      string   `json:"mark"`
}

// Undo asks for the last provisioning of a site to be undone.
type Undo struct {
	Mark string `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// Despite names checks that may fail after a change without stopping it.
type Despite struct {
	Checks []string `json:"checks,omitempty" maxItems:"30" doc:"names of checks"`
	Reason string   `json:"reason,omitempty" maxLength:"500" doc:"shown on the site, where the faults are accepted"`
}

// Move asks for a site to go to another host and address.
type Move struct {
	Host    string  `json:"host" minLength:"1"`
	Address string  `json:"address,omitempty" doc:"by the host's pattern unless given"`
	Visible *bool   `json:"visible,omitempty" doc:"to search engines, there; as it is now unless given"`
	Despite Despite `json:"despite,omitzero"`
	Mark    string  `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// MovePlan is what moving a site will do.
type MovePlan struct {
	Site      string   `json:"site"`
	Sentences []string `json:"sentences" format:"sentence"`
	Problems  []string `json:"problems" format:"sentence"`
	Ready     bool     `json:"ready"`
	Mark      string   `json:"mark"`
}

// NewCode asks for a site to take the code of a release and keep its content.
type NewCode struct {
	From string `json:"from,omitempty" doc:"the newest release of the site's starter unless given"`
	// A site that shares code goes on to share that of its install.
	TenantOf string  `json:"tenant_of,omitempty" doc:"install whose code it is to share from now on"`
	OwnCode  bool    `json:"own_code,omitempty" doc:"give it code of its own, where it shares that of an install"`
	Despite  Despite `json:"despite,omitzero"`
	Mark     string  `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// Ancestor is one step of where a site comes from.
type Ancestor struct {
	Noun string `json:"noun" enum:"release,source,site"`
	Name string `json:"name"`
	Gone bool   `json:"gone,omitempty" doc:"its archive is not kept, its record is removed, or it is off its host"`
}

// CopyRule says which safety copies of a site are kept.
type CopyRule struct {
	Last int `json:"last" minimum:"0" doc:"that many; 0 for all"`
	Days int `json:"days" minimum:"0" doc:"for so many days; 0 for ever"`
}

// Screenshots ask for screenshots of a site's pages beside its source's.
type Screenshots struct {
	Pages int `json:"pages,omitempty" minimum:"1" maximum:"40" doc:"6 unless given"`
}

// Held says whether visitors are kept out of a site.
type Held struct {
	Held    bool   `json:"held"`
	Visible bool   `json:"visible,omitempty" doc:"with held false: let search engines in too, and mail out"`
	Preview string `json:"preview,omitempty" doc:"the address at which whoever has it sees the site all the same"`
}

// Retire asks for a site to be taken off its host.
type Retire struct {
	NoCopy bool `json:"no_copy,omitempty" doc:"make no last safety copy"`
}

// Lead is where a site's name leads.
type Lead struct {
	Sentence string    `json:"sentence" format:"sentence"`
	There    bool      `json:"there" doc:"to the site's host, and nowhere else"`
	To       []string  `json:"to"`
	Since    time.Time `json:"since" doc:"when it was first seen to lead there"`
	At       time.Time `json:"at" doc:"when it was asked for last"`
}

// SafetyCopy is a site as it stood.
type SafetyCopy struct {
	ID      int64     `json:"id"`
	MadeAt  time.Time `json:"made_at"`
	Why     string    `json:"why" enum:"replaced,moved,asked,retired"`
	Bytes   int64     `json:"bytes"`
	Release string    `json:"release,omitempty"`
	Where   string    `json:"where"` // a folder on the host, or the name of an archive in the store
	Host    string    `json:"host,omitempty" doc:"the host of that folder, where it is not the site's"`
	Serves  string    `json:"serves,omitempty" doc:"the address at which it still answers: of a site that has moved and kept its address"`
}

// Site is something that was provisioned.
type Site struct {
	Name        string           `json:"name"`
	Client      string           `json:"client"`
	Host        string           `json:"host"`
	Release     string           `json:"release"`
	Address     string           `json:"address"`
	Title       string           `json:"title"`
	Folder      string           `json:"folder"`
	Database    string           `json:"database"`
	Prefix      string           `json:"prefix"`
	Admin       string           `json:"admin"`
	LoginAt     string           `json:"login_at"`
	Visible     bool             `json:"visible"`
	Files       int64            `json:"files"`
	Rows        int64            `json:"rows"`
	Bytes       int64            `json:"bytes"`
	Values      []Value          `json:"values"`
	Rewritten   RewriteTally     `json:"rewritten"`
	Steps       []StepTime       `json:"steps"`
	MadeAt      time.Time        `json:"made_at"`
	RunID       int64            `json:"run_id"`
	Report      *Report          `json:"report,omitempty"`
	Tasks       []LaunchTask     `json:"tasks"`
	Held        bool             `json:"held"`
	Lead        *Lead            `json:"lead,omitempty" doc:"where its name leads; of hosts that say what to connect to"`
	RetiredAt   *time.Time       `json:"retired_at,omitempty"`
	Copies      []SafetyCopy     `json:"copies"`
	Kept        map[string]int64 `json:"kept,omitempty" doc:"rows that were taken over from the site it replaced, by part"`
	Quiet       bool             `json:"quiet" doc:"its mail is kept from going out"`
	Adjustments []string         `json:"adjustments,omitempty" doc:"what was done so that it does not work for where it came from" format:"sentence"`
	Behind      int              `json:"behind" doc:"releases of its starter that are newer"`
	Descent     []Ancestor       `json:"descent,omitempty" doc:"of one site, not in lists"`
	Handovers   []Handover       `json:"handovers,omitempty" doc:"of one site, not in lists"`
	CopyRule    CopyRule         `json:"copy_rule"`
	Upgraded    string           `json:"upgraded,omitempty" doc:"the version that the CMS brought its tables to"`
	Install     string           `json:"install,omitempty" doc:"whose code it shares; none for a site with its own"`
	Accounts    string           `json:"accounts" doc:"which login works, in a sentence" format:"sentence"`
	Accepted    []Acceptance     `json:"accepted,omitempty" doc:"what checks have found that is known, and harmless"`
}

// LaunchTask is something a person must still do on a site, until it is ticked off.
type LaunchTask struct {
	Key    string     `json:"key"`
	Title  string     `json:"title"`
	Detail string     `json:"detail"`
	Page   string     `json:"page,omitempty"` // where, as a whole address
	Due    *time.Time `json:"due,omitempty"`  // the day by which it is to be done
	DoneAt *time.Time `json:"done_at,omitempty"`
	DoneBy string     `json:"done_by,omitempty"`
}

// Tick says that a launch task was done, or that it was not after all, and by which day it is to be done.
type Tick struct {
	Done bool    `json:"done"`
	Due  *string `json:"due,omitempty" format:"date" doc:"a day like 2026-12-01; 0001-01-01 for none; it stays as it is when it is not given"`
}
