package wire

import "time"

// SideBySide is what was seen of a site beside its source.
type SideBySide struct {
	Source string           `json:"source"`
	At     time.Time        `json:"at"`
	Left   string           `json:"left"` // the source's address
	Right  string           `json:"right"`
	Pages  []SideBySidePage `json:"pages"`
	// Set is what the names of its screenshots begin with in the store.
	Set string `json:"set,omitempty"`
}

// SideBySidePage is one page of both.
type SideBySidePage struct {
	Path    string  `json:"path"`  // below the addresses
	Left    string  `json:"left"`  // PNG file of the first site's page; "" when it could not be opened
	Right   string  `json:"right"` // of the second's, with the differences marked
	Share   float64 `json:"share"` // of the picture that differs, 0 to 1
	Places  int     `json:"places"`
	Problem string  `json:"problem,omitempty" format:"sentence"`
}
