package wire

import "time"

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

// HostsReport is what the records say compared with what is on the hosts.
type HostsReport struct {
	Hosts     []string     `json:"hosts" doc:"that were looked at"`
	Unreached []string     `json:"unreached" doc:"why others were not" format:"sentence"`
	Things    int          `json:"things" doc:"how many folders, databases and accounts the records name"`
	Faults    []HostsFault `json:"faults"`
}

// HostsFault is something that does not hold.
type HostsFault struct {
	Sentence string `json:"sentence" format:"sentence"`
	Remedy   string `json:"remedy" doc:"what to do about it" format:"sentence"`
	Run      int64  `json:"run,omitempty" doc:"that is to be cancelled"`
}

// Room is what a host has left for files.
type Room struct {
	FreeBytes *int64    `json:"free_bytes,omitempty" doc:"missing where the host does not tell"`
	At        time.Time `json:"at"`
	Trouble   string    `json:"trouble,omitempty" doc:"why it could not be reached" format:"sentence"`
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
	Unreadable bool   `json:"unreadable,omitempty"`
	Writes     string `json:"writes,omitempty" enum:"own,group,no" doc:"in which folders they can write: in all, in those that their group may write in, or in none"`
	Stays      bool   `json:"stays,omitempty" doc:"what they make in folders of their own cannot be removed by who places sites"`
	// Apart says whether the programs of one site are kept from the settings of another.
	Apart *bool `json:"apart,omitempty"`
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
	Files    string    `json:"files,omitempty" doc:"an address of the files with which the programs there find, or read, what is placed; change the host to it"`
}

// Faults counts the steps that failed.
func (t *HostTest) Faults() int { return (&Report{Checks: t.Steps}).Faults() }
