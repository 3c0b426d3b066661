package wire

// Sample is what somebody may begin with who has nothing yet: a host with a site on it, and clients. Whoever runs the service names a
// file of it in its settings.
type Sample struct {
	About   string      `json:"about" doc:"what it is, in a sentence" format:"sentence"`
	Host    NewHost     `json:"host"`
	Source  NewSource   `json:"source"`
	Clients []NewClient `json:"clients,omitempty"`
}

// SampleThere says whether there is a sample to begin with.
type SampleThere struct {
	There bool   `json:"there"`
	About string `json:"about,omitempty" format:"sentence"`
}
