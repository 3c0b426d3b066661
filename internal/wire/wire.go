// Package wire has the nouns as they travel over HTTP. The OpenAPI document, the console's types and the
// Go client all follow from these structs. They are types of their own: what the core and the records hold may change
// without anybody who speaks to the service noticing.
package wire

import (
	"encoding/json"
	"time"
)

// Me is who is asking.
type Me struct {
	Name string `json:"name"`
	Role string `json:"role" enum:"owner,builder,viewer"`
}

// Credentials log somebody in.
type Credentials struct {
	Name     string `json:"name" minLength:"1" maxLength:"60"`
	Password string `json:"password" minLength:"1" maxLength:"256"`
}

// NewPassword changes one's own password, or, asked for by an owner, somebody else's. Old is one's own.
type NewPassword struct {
	Old string `json:"old,omitempty" maxLength:"256"`
	New string `json:"new" minLength:"10" maxLength:"256"`
}

// User is somebody who may use the service.
type User struct {
	Name      string    `json:"name"`
	Role      string    `json:"role"`
	CreatedAt time.Time `json:"created_at"`
}

// NewUser makes a user.
type NewUser struct {
	Name     string `json:"name" pattern:"^[a-z0-9][a-z0-9._-]*$" maxLength:"60"`
	Role     string `json:"role" enum:"owner,builder,viewer"`
	Password string `json:"password" minLength:"10" maxLength:"256"`
}

// NewToken asks for a token for oneself.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"60"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"after which it is of no use any more; 0 for never"`
}

// Token is shown once.
type Token struct {
	Token string `json:"token"`
}

// TokenName is a token without its secret.
type TokenName struct {
	Name      string     `json:"name"`
	User      string     `json:"user"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
}

// Host is a place with files and a database server.
type Host struct {
	Name     string    `json:"name"`
	Files    string    `json:"files"`
	WebRoot  string    `json:"web_root"`
	Address  string    `json:"address"`
	Database string    `json:"database"`
	Connect  string    `json:"connect,omitempty"`
	Runtimes []Runtime `json:"runtimes,omitempty" doc:"what runs on it, as it told when it was tested"`
	// HostKey is the short form of the key that the host has shown, and must show.
	HostKey string   `json:"host_key,omitempty"`
	Room    *Room    `json:"room,omitempty" doc:"as somebody looked last"`
	Use     *HostUse `json:"use,omitempty" doc:"of one host, not in lists"`
}

// Room is what a host has left for files.
type Room struct {
	FreeBytes *int64    `json:"free_bytes,omitempty" doc:"missing where the host does not tell"`
	At        time.Time `json:"at"`
	Trouble   string    `json:"trouble,omitempty" doc:"why it could not be reached"`
}

// HostUse is what the sites on a host take up.
type HostUse struct {
	Sites   int   `json:"sites"`
	Bytes   int64 `json:"bytes" doc:"of their files and rows, as they were made"`
	Largest int64 `json:"largest" doc:"of one site"`
}

// Runtime is what runs the programs of sites on a host.
type Runtime struct {
	Name    string    `json:"name"`
	Version string    `json:"version"`
	Parts   []string  `json:"parts" doc:"what it has been built with"`
	AskedAt time.Time `json:"asked_at"`
	// Account is who the programs of sites run as.
	Account string `json:"account,omitempty"`
	// Folder is what the programs call the folder that they were asked in.
	Folder string `json:"folder,omitempty"`
	// Clock is the time there when it was asked.
	Clock time.Time `json:"clock,omitzero"`
	// Unreadable says that they cannot read what is placed there.
	Unreadable bool `json:"unreadable,omitempty"`
}

// ChangedHost changes a host; what is empty stays as it is.
type ChangedHost struct {
	Files            string  `json:"files,omitempty"`
	WebRoot          string  `json:"web_root,omitempty"`
	Address          string  `json:"address,omitempty"`
	Database         string  `json:"database,omitempty"`
	DatabasePassword string  `json:"database_password,omitempty"`
	FilesPassword    string  `json:"files_password,omitempty"`
	FilesKey         string  `json:"files_key,omitempty"`
	NewHostKey       bool    `json:"new_host_key,omitempty" doc:"take the key that the host shows now for its own"`
	Connect          *string `json:"connect,omitempty"`
}

// ChangedSource changes where a source is read; what is empty stays as it is.
type ChangedSource struct {
	Path             string `json:"path,omitempty"`
	Address          string `json:"address,omitempty"`
	Database         string `json:"database,omitempty"`
	DatabasePassword string `json:"database_password,omitempty"`
	Prefix           string `json:"prefix,omitempty" pattern:"^[A-Za-z0-9_]+$" maxLength:"60"`
	SubSite          string `json:"sub_site,omitempty" maxLength:"250"`
}

// ChangedStarter changes what a starter is built from.
type ChangedStarter struct {
	Source string `json:"source" minLength:"1"`
}

// NewHost makes a host. The password of the database account is kept in the vault.
type NewHost struct {
	Name             string `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"60"`
	Files            string `json:"files" doc:"where its files are, like file:///srv/www?owner=www-data or sftp://studio@files.example/home/studio/www"`
	FilesPassword    string `json:"files_password,omitempty" doc:"of the account that reaches the files, or the passphrase of its private key"`
	FilesKey         string `json:"files_key,omitempty" doc:"private key of that account, as OpenSSH writes it"`
	WebRoot          string `json:"web_root" doc:"folder of a site below files, with {name} or {host}"`
	Address          string `json:"address" doc:"address of a site, with {name}"`
	Database         string `json:"database" doc:"database server with an account that may make databases and users, like mysql://admin@127.0.0.1:3306/, with ?through=files when it is reached through the SSH of the files"`
	DatabasePassword string `json:"database_password,omitempty"`
	Connect          string `json:"connect,omitempty" doc:"host or host:port that checks connect to, whatever DNS says"`
}

// HostTest is what a host showed, step by step. The remedy of a step is what to ask the hosting company.
type HostTest struct {
	Steps    []Check   `json:"steps"`
	Runtimes []Runtime `json:"runtimes" doc:"what runs the programs of sites"`
}

// Faults counts the steps that failed.
func (t *HostTest) Faults() int { return (&Report{Checks: t.Steps}).Faults() }

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
	Ask              bool   `json:"ask,omitempty" doc:"place a page in its folder for one request, that tells how it reaches its database"`
}

// Starter is a named line of releases.
type Starter struct {
	Name      string    `json:"name"`
	Source    string    `json:"source"`
	Kind      string    `json:"kind"`
	Releases  int       `json:"releases"`
	Newest    int       `json:"newest,omitempty"`
	CreatedAt time.Time `json:"created_at"`
	Retention Retention `json:"retention"`
}

// NewStarter makes a starter with a stock packing list, and perhaps further fields.
type NewStarter struct {
	Name   string  `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"60"`
	Source string  `json:"source"`
	List   string  `json:"list,omitempty" doc:"stock list; starter unless given"`
	Fields []Field `json:"fields,omitempty"`
	// Tasks are what a person must still do on each new site.
	Tasks []ListedTask `json:"launch_tasks,omitempty"`
}

// Packing is a starter's packing list with what it would take.
type Packing struct {
	Text     string           `json:"text"`
	List     *PackingList     `json:"list"`
	Surveyed bool             `json:"surveyed"` // without a survey there are no totals
	In       Share            `json:"in"`
	Out      Share            `json:"out"`
	Saved    map[string]Share `json:"saved"`
	Problems []ListProblem    `json:"problems"`
}

// PackingText replaces a packing list.
type PackingText struct {
	Text string `json:"text"`
}

// TriedList is a packing list that is not kept, and an edit of it that is made first.
type TriedList struct {
	Text string    `json:"text"`
	Edit *ListEdit `json:"edit,omitempty"`
}

// ListLevel asks what a packing list does with what lies in a folder of the source.
type ListLevel struct {
	Text string `json:"text"`
	Path string `json:"path,omitempty" maxLength:"4000" doc:"the folder; none for the web root"`
	Find string `json:"find,omitempty" maxLength:"400" doc:"a part of the path of files below it, or a pattern"`
}

// PackedLevel is what lies in a folder of the source, and its tables, with what a packing list does with them.
type PackedLevel struct {
	Nodes  []PackedNode  `json:"nodes" doc:"the largest first"`
	All    int           `json:"all" doc:"how many there are; the nodes are the largest of them"`
	Tables []PackedTable `json:"tables" doc:"with the web root"`
}

// PackedNode is a folder or file of the source.
type PackedNode struct {
	Path     string `json:"path"`
	Name     string `json:"name"`
	Folder   bool   `json:"folder"`
	Area     string `json:"area"`
	Files    int64  `json:"files"`
	Bytes    int64  `json:"bytes"`
	OutFiles int64  `json:"out_files" doc:"that stay out"`
	OutBytes int64  `json:"out_bytes"`
	Rule     string `json:"rule,omitempty" doc:"that keeps most of those out"`
}

// PackedTable is a table of the source.
type PackedTable struct {
	Name  string `json:"name" doc:"without prefix"`
	Rows  int64  `json:"rows" doc:"the server's estimate"`
	Bytes int64  `json:"bytes"`
	State string `json:"state" enum:"in,out,empty"`
	Rule  string `json:"rule,omitempty"`
}

// NewRelease asks for a build.
type NewRelease struct {
	Note string `json:"note,omitempty" maxLength:"500"`
	Full bool   `json:"full,omitempty" doc:"read and compress everything; without it, what did not change is copied from the release before"`
}

// Retention says which archives of a starter are kept, besides those that sites were made from; all when both
// are 0.
type Retention struct {
	Last  int `json:"last" minimum:"0" maximum:"10000" doc:"the last so many"`
	Weeks int `json:"weeks" minimum:"0" maximum:"520" doc:"and one a week for so many weeks"`
}

// NewComparison asks how a release differs from another, or from its source today.
type NewComparison struct {
	From     string `json:"from" minLength:"1"`
	To       string `json:"to,omitempty"`
	ToSource bool   `json:"to_source,omitempty"`
}

// GivenFile is a file that was uploaded, or a link to one.
type GivenFile struct {
	Upload string `json:"upload,omitempty" doc:"the last part of the address that tus gave the upload"`
	Link   string `json:"link,omitempty" doc:"https:// or http://"`
}

// NewImport asks for a release to be imported: an archive of a release (whole or in volumes, sealed or not), or
// archives and dumps that were made elsewhere.
type NewImport struct {
	Files    []GivenFile `json:"files" minItems:"1" maxItems:"1000"`
	Database *GivenFile  `json:"database,omitempty" doc:"the dump, where it is not among the files"`
	Key      string      `json:"key,omitempty" doc:"key or passphrase of a sealed archive"`
	List     string      `json:"list,omitempty" doc:"stock packing list, for a starter that is new; starter unless given"`
	Note     string      `json:"note,omitempty" maxLength:"500"`
	Trust    bool        `json:"trust,omitempty" doc:"the archive is one's own: views, triggers and routines in it are taken over; owners only"`
}

// LinkCheck asks what a link leads to.
type LinkCheck struct {
	Link string `json:"link" minLength:"1"`
}

// Seal asks for an archive encrypted in the format of age (age-encryption.org/v1).
type Seal struct {
	Recipients []string `json:"recipients,omitempty" doc:"age1…"`
	Passphrase string   `json:"passphrase,omitempty"`
}

// Volume is one piece of an archive that is cut.
type Volume struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
	Path  string `json:"path" doc:"where it is, below /api/v1"`
}

// Release is one build of a starter.
type Release struct {
	Ref          string        `json:"ref"`
	Starter      string        `json:"starter"`
	Number       int           `json:"number"`
	Made         time.Time     `json:"made"`
	By           string        `json:"by"`
	Note         string        `json:"note"`
	Source       string        `json:"source"`
	KindTitle    string        `json:"kind_title"`
	Version      string        `json:"version"`
	ArchiveBytes int64         `json:"archive_bytes"`
	SumsSHA256   string        `json:"sums_sha256"` // of SHA256SUMS, which pins everything else
	Kept         bool          `json:"kept"`        // its archive is there
	Totals       ReleaseTotals `json:"totals"`
	Areas        []AreaTotal   `json:"areas"`
	VerifiedAt   *time.Time    `json:"verified_at,omitempty"`
	Faults       int           `json:"faults"`
	Sites        int           `json:"sites"`
	BeforeBytes  *int64        `json:"before_bytes,omitempty"` // size of the release before
	RunID        *int64        `json:"run_id,omitempty"`
	ImportedFrom string        `json:"imported_from,omitempty"`
	Difference   *Difference   `json:"difference,omitempty"` // to the release before
	DiscardedAt  *time.Time    `json:"discarded_at,omitempty"`
	DiscardedWhy string        `json:"discarded_why,omitempty"`
	FreedBytes   *int64        `json:"freed_bytes,omitempty" doc:"when it was just discarded: of the store, that are free now; the rest is shared with other archives"`
	Manifest     *Manifest     `json:"manifest,omitempty"` // of one release, not in lists
}

// Contents is a part of what is in an archive, largest first.
type Contents struct {
	Ref   string  `json:"ref"`
	Path  string  `json:"path"`
	Bytes int64   `json:"bytes"`
	Nodes []*Node `json:"nodes"`
}

// Client is a customer of the agency.
type Client struct {
	Name      string             `json:"name"`
	Settings  map[string]Setting `json:"settings"`
	Sites     int                `json:"sites"`
	CreatedAt time.Time          `json:"created_at"`
}

// NewClient makes a client.
type NewClient struct {
	Name     string            `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"63"`
	Settings map[string]string `json:"settings,omitempty"`
}

// Settings are values to set; an empty one is removed.
type Settings struct {
	Settings map[string]string `json:"settings"`
	Secret   []string          `json:"secret,omitempty" doc:"keys whose values are secret; licences, passwords, keys and tokens are so without being named"`
}

// NewClientFile is a picture or a file for a client.
type NewClientFile struct {
	Name    string `json:"name" minLength:"1" maxLength:"255"`
	Content []byte `json:"content" doc:"in base 64; at most 20 MB"`
}

// ClientFile is a picture or a file that a client has.
type ClientFile struct {
	Value  string `json:"value" doc:"what settings and fields of the types image and file name it by"`
	Name   string `json:"name"`
	Type   string `json:"type" doc:"of its content (RFC 2046)"`
	Bytes  int64  `json:"bytes"`
	Width  int    `json:"width,omitempty" doc:"of a picture, in pixels"`
	Height int    `json:"height,omitempty"`
}

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
	Problems  []string `json:"problems"`
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
	Sentences []string `json:"sentences"`
	Mark      string   `json:"mark"`
}

// Undo asks for the last provisioning of a site to be undone.
type Undo struct {
	Mark string `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// Move asks for a site to go to another host and address.
type Move struct {
	Host    string `json:"host" minLength:"1"`
	Address string `json:"address,omitempty" doc:"by the host's pattern unless given"`
	Visible *bool  `json:"visible,omitempty" doc:"to search engines, there; as it is now unless given"`
	Mark    string `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// MovePlan is what moving a site will do.
type MovePlan struct {
	Site      string   `json:"site"`
	Sentences []string `json:"sentences"`
	Problems  []string `json:"problems"`
	Ready     bool     `json:"ready"`
	Mark      string   `json:"mark"`
}

// NewCode asks for a site to take the code of a release and keep its content.
type NewCode struct {
	From string `json:"from,omitempty" doc:"the newest release of the site's starter unless given"`
	// A site that shares code goes on to share that of its install.
	TenantOf string `json:"tenant_of,omitempty" doc:"install whose code it is to share from now on"`
	OwnCode  bool   `json:"own_code,omitempty" doc:"give it code of its own, where it shares that of an install"`
	Mark     string `json:"mark,omitempty" doc:"of the plan that was looked at; another is refused"`
}

// Handover is a link by which a client gets a site's address and login, once.
type Handover struct {
	ID          int64      `json:"id"`
	MadeAt      time.Time  `json:"made_at"`
	MadeBy      string     `json:"made_by"`
	ExpiresAt   time.Time  `json:"expires_at"`
	OpenedAt    *time.Time `json:"opened_at,omitempty"`
	WithdrawnAt *time.Time `json:"withdrawn_at,omitempty"`
	// Path is the link, below the service's own address; told once. What follows the # is never sent to a server by
	// a browser (RFC 3986 section 3.5), so it is in no log.
	Path string `json:"path,omitempty"`
}

// NewHandover asks for a link.
type NewHandover struct {
	Days int `json:"days,omitempty" minimum:"1" maximum:"90" doc:"until it expires; 7 unless given"`
}

// OpenHandover opens a link by its key.
type OpenHandover struct {
	Key string `json:"key" maxLength:"200"`
}

// HandedOver is what a client gets.
type HandedOver struct {
	Sheet
	Password string `json:"password,omitempty" doc:"shown this once; empty when the accounts that were there log in as before"`
}

// Sheet is what is said of a site to the client it is for. It holds no secret.
type Sheet struct {
	Site    string       `json:"site"`
	Title   string       `json:"title"`
	Address string       `json:"address"`
	LoginAt string       `json:"login_at"`
	Login   string       `json:"login"`
	Held    bool         `json:"held"`
	Visible bool         `json:"visible"`
	Values  []Value      `json:"values"`
	Tasks   []LaunchTask `json:"tasks"`
	ToDo    []string     `json:"to_do" doc:"what the client should do, in order"`
	MadeAt  time.Time    `json:"made_at"`
	Agency  Agency       `json:"agency"`
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
	Sentence string    `json:"sentence"`
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
	Adjustments []string         `json:"adjustments,omitempty" doc:"what was done so that it does not work for where it came from"`
	Behind      int              `json:"behind" doc:"releases of its starter that are newer"`
	Descent     []Ancestor       `json:"descent,omitempty" doc:"of one site, not in lists"`
	Handovers   []Handover       `json:"handovers,omitempty" doc:"of one site, not in lists"`
	CopyRule    CopyRule         `json:"copy_rule"`
	Upgraded    string           `json:"upgraded,omitempty" doc:"the version that the CMS brought its tables to"`
	Install     string           `json:"install,omitempty" doc:"whose code it shares; none for a site with its own"`
	Accounts    string           `json:"accounts" doc:"which login works, in a sentence"`
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

// Run is background work.
type Run struct {
	ID        int64           `json:"id"`
	Job       string          `json:"job" enum:"survey,build,verify,compare,import,retention,provision,check,undo,copy,retire,rotate,move,table,screenshots,install-code,install-refresh,install-undo,install-remove"`
	Title     string          `json:"title"`
	About     About           `json:"about" doc:"what it is about"`
	Status    string          `json:"status" enum:"waiting,working,cleanup-failed,done,failed,cancelled" doc:"a run whose cleanup failed has failed, and what it made could not be taken back yet"`
	Who       string          `json:"who"`
	Progress  Progress        `json:"progress"`
	Result    json.RawMessage `json:"result,omitempty" doc:"of one run, not in lists"`
	Error     string          `json:"error,omitempty"`
	Repeats   bool            `json:"repeats,omitempty" doc:"it can be started again as it was"`
	Committed bool            `json:"committed,omitempty" doc:"it is past the point where it can be cancelled"`
	CreatedAt time.Time       `json:"created_at"`
	StartedAt *time.Time      `json:"started_at,omitempty"`
	EndedAt   *time.Time      `json:"ended_at,omitempty"`
}

// Ahead is the steps that a run still has before it, with how long they took in another run of its sort.
type Ahead struct {
	Run   int64      `json:"run,omitempty" doc:"the run that they are known from"`
	Steps []StepTime `json:"steps"`
}

// About names one thing.
type About struct {
	Noun string `json:"noun"`
	Name string `json:"name"`
}

// Statuses of runs.
const (
	Waiting   = "waiting"
	Working   = "working"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
	// CleanupFailed is that of a run that has failed, while what it made could not be taken back yet.
	CleanupFailed = "cleanup-failed"
)

// Ended reports whether the run is over.
func (r Run) Ended() bool {
	return r.Status != Waiting && r.Status != Working && r.Status != CleanupFailed
}

// LogLine is a sentence in a run's log.
type LogLine struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Sentence string    `json:"sentence"`
}

// Resealed says how many secrets were sealed with a new key.
type Resealed struct {
	Secrets    int  `json:"secrets"`
	OldKeyKept bool `json:"old_key_kept" doc:"runs under way may need it; rotate again when they are over"`
}

// Secret names a secret without telling it.
type Secret struct {
	Noun      string    `json:"noun"`
	Owner     string    `json:"owner"`
	Name      string    `json:"name"`
	CreatedAt time.Time `json:"created_at"`
}

// Reveal asks for a secret.
type Reveal struct {
	Noun  string `json:"noun"`
	Owner string `json:"owner"`
	Name  string `json:"name"`
}

// Revealed is a secret in the open.
type Revealed struct {
	Secret string `json:"secret"`
}

// Kind is a CMS family.
type Kind struct {
	Name       string   `json:"name"`
	Title      string   `json:"title"`
	Lists      []string `json:"lists"` // names of its stock packing lists
	Stock      bool     `json:"stock"` // it comes with the program
	Holds      bool     `json:"holds" doc:"visitors can be kept out of its sites"`
	Keep       []Part   `json:"keep"`                 // of an old site, what a new one in its place can take over
	Definition string   `json:"definition,omitempty"` // of one kind, not in lists: its YAML
}

// NewDraft asks for a draft of a kind, from a folder of a host.
type NewDraft struct {
	Name     string `json:"name" pattern:"^[a-z][a-z0-9-]{0,39}$"`
	Host     string `json:"host"`
	Path     string `json:"path"`
	Address  string `json:"address,omitempty"`
	Database string `json:"database,omitempty"` // address of its database; else what its settings tell
	Password string `json:"password,omitempty"`
}

// KindDraft is the definition of a kind, as a beginning.
type KindDraft struct {
	Definition string `json:"definition"` // YAML
}

// NewKind is a kind that is added.
type NewKind struct {
	Definition string `json:"definition" minLength:"1" maxLength:"1048576"` // YAML
}

// Part is a part of a site that can be kept.
type Part struct {
	What  string `json:"what"`
	Title string `json:"title"`
}

// AuditEntry is a line of the audit log.
type AuditEntry struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	What string    `json:"what"`
}

// Retry starts a run once more. From is another release, where the run makes a site.
type Retry struct {
	From string `json:"from,omitempty" doc:"a release, or a starter for its newest"`
}
