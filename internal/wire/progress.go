package wire

import "time"

// Amount counts work: files, bytes of content, and database rows.
type Amount struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
	Rows  int64 `json:"rows"`
}

// Progress is how far a run is.
type Progress struct {
	Step      string    `json:"step" format:"sentence"`
	Steps     []RunStep `json:"steps"`
	Done      Amount    `json:"done"`
	Expected  Amount    `json:"expected"`
	Fraction  float64   `json:"fraction"` // 0 to 1; 0 while nothing is known
	BytesRate float64   `json:"bytes_per_second"`
	LeftSecs  float64   `json:"seconds_left"` // 0 while nothing is known
}

// RunStep is a step that a run has begun, and how long it took once it ended.
type RunStep struct {
	Name   string    `json:"name"`
	At     time.Time `json:"at"`
	Millis int64     `json:"ms"`
}

// LinkInfo is what a link answers.
type LinkInfo struct {
	Name      string `json:"name"`
	Bytes     int64  `json:"bytes"` // -1 when the server does not say
	Type      string `json:"type"`
	Resumable bool   `json:"resumable"`
}
