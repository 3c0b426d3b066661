package wire

// Agency is whose service it is, as its clients see it.
type Agency struct {
	Name    string `json:"name"`
	Contact string `json:"contact"`
	Colour  string `json:"colour" doc:"like #1c6b4f"`
	Logo    string `json:"logo,omitempty" doc:"a picture, as a data: address"`
}

// NewAgency says what clients see of the agency.
type NewAgency struct {
	Name    string `json:"name" maxLength:"120"`
	Contact string `json:"contact" maxLength:"300" doc:"an address for mail, a number, or words"`
	Colour  string `json:"colour,omitempty" maxLength:"7" doc:"like #1c6b4f"`
	Logo    []byte `json:"logo,omitempty" doc:"a picture in PNG, JPEG, WebP or GIF; it stays as it is when none is given"`
	NoLogo  bool   `json:"no_logo,omitempty" doc:"takes the logo away"`
}
