package wire

import "time"

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
	ToDo    []string     `json:"to_do" doc:"what the client should do, in order" format:"sentence"`
	MadeAt  time.Time    `json:"made_at"`
	Agency  Agency       `json:"agency"`
}
