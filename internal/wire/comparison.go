package wire

// Comparison says how one archive differs from another, and why its size does.
type Comparison struct {
	From     string        `json:"from"`
	To       string        `json:"to"`
	Summary  string        `json:"summary" format:"sentence"` // one sentence
	Causes   []Cause       `json:"causes"`                    // of the difference in size, the greatest first; three at most
	Before   int64         `json:"before"`                    // bytes of the archives
	After    int64         `json:"after"`
	Added    FileTally     `json:"added"`
	Removed  FileTally     `json:"removed"`
	Changed  FileTally     `json:"changed"`
	Areas    []AreaDelta   `json:"areas"`
	Folders  []FolderDelta `json:"folders"`
	Files    []FileDelta   `json:"files"` // the largest differences first
	More     int           `json:"more"`  // files that differ and are not listed
	Tables   []TableDelta  `json:"tables"`
	Values   []ValueDelta  `json:"values"` // settings and options
	MoreVals int           `json:"more_values"`
}

// FileTally counts files and their bytes.
type FileTally struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"` // of the files as they are afterwards; of removed ones as they were
}

// Cause is a part of the difference in size. Packed is what it makes in the archive.
type Cause struct {
	Path     string `json:"path"`
	Sentence string `json:"sentence" format:"sentence"`
	Packed   int64  `json:"packed"`
}

// AreaDelta is the difference in one area, in bytes of content and in the archive.
type AreaDelta struct {
	Area    string `json:"area"`
	Added   int64  `json:"added"`
	Removed int64  `json:"removed"`
	Changed int64  `json:"changed"`
	Bytes   int64  `json:"bytes"`
	Packed  int64  `json:"packed"`
}

// FolderDelta is the difference below a folder.
type FolderDelta struct {
	Path string `json:"path"`
	AreaDelta
}

// FileDelta is one file that differs.
type FileDelta struct {
	Path   string `json:"path"`
	Change string `json:"change" enum:"added,removed,changed"`
	Area   string `json:"area"`
	Before int64  `json:"before"`
	After  int64  `json:"after"`
	Packed int64  `json:"packed"` // difference in the archive
}

// TableDelta is the difference in one table, row by row where it has a primary key.
type TableDelta struct {
	Table   string `json:"table"`
	Change  string `json:"change" enum:"added,removed,changed"`
	Added   int64  `json:"added"` // rows
	Removed int64  `json:"removed"`
	Changed int64  `json:"changed"`
	Bytes   int64  `json:"bytes"`  // of SQL
	Packed  int64  `json:"packed"` // in the archive
	Note    string `json:"note,omitempty"`
}

// ValueDelta is a setting or option, or a value inside an option, that differs. Secrets are masked.
type ValueDelta struct {
	Where  string `json:"where"`
	Before string `json:"before"`
	After  string `json:"after"`
	Change string `json:"change" enum:"added,removed,changed"`
	Secret bool   `json:"secret,omitempty"`
}

// TextDelta is how the text of a file differs: the places that differ, with the lines around them.
type TextDelta struct {
	Path    string  `json:"path"`
	Added   int     `json:"added"` // lines
	Removed int     `json:"removed"`
	Places  []Place `json:"places"`
}

// Place is one place in a text. Lines are counted from 1.
type Place struct {
	Before int         `json:"before"` // its first line there
	After  int         `json:"after"`
	Lines  []DeltaLine `json:"lines"`
}

// DeltaLine is a line of one text or of both, without its end.
type DeltaLine struct {
	Change string `json:"change" enum:"same,added,removed"`
	Text   string `json:"text"`
}
