package wire

// Kind is a CMS family.
type Kind struct {
	Name       string   `json:"name"`
	Title      string   `json:"title"`
	Lists      []string `json:"lists"` // names of its stock packing lists
	Stock      bool     `json:"stock"` // it comes with the program
	Holds      bool     `json:"holds" doc:"visitors can be kept out of its sites"`
	Keep       []Part   `json:"keep"` // of an old site, what a new one in its place can take over
	AlsoFits   []string `json:"also_fits,omitempty" doc:"sources of other kinds that its signs fit, too, when it is added; they stay of theirs"`
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
