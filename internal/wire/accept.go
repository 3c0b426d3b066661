package wire

import "time"

// Acceptance says that what a check has found is known.
type Acceptance struct {
	What       string     `json:"what" doc:"a check of a site, or a finding of a source and where it is"`
	Reason     string     `json:"reason"`
	Who        string     `json:"who"`
	At         time.Time  `json:"at"`
	Until      *time.Time `json:"until,omitempty" doc:"when it ends by itself"`
	Everywhere bool       `json:"everywhere,omitempty" doc:"on all sites of the starter"`
}

// Accept accepts what a check of a site has found, or a finding of a source, until something else is found.
type Accept struct {
	What       string     `json:"what" minLength:"1" maxLength:"1000" doc:"the check, or the finding"`
	Where      string     `json:"where,omitempty" maxLength:"4000" doc:"where the finding is"`
	Reason     string     `json:"reason" minLength:"3" maxLength:"500"`
	Everywhere bool       `json:"everywhere,omitempty" doc:"on all sites of the starter, where just the same is found"`
	Until      *time.Time `json:"until,omitempty" doc:"when it ends by itself"`
}
