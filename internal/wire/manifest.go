package wire

import "time"

// Manifest describes a release. Fields it does not know are ignored by a reader.
type Manifest struct {
	Format   int            `json:"format"`
	ID       string         `json:"id"`
	Starter  string         `json:"starter"`
	Number   int            `json:"number"`
	Made     time.Time      `json:"made"`
	By       string         `json:"by"`
	Note     string         `json:"note,omitempty"`
	Parent   string         `json:"parent,omitempty"`
	Source   string         `json:"source"`
	Kind     string         `json:"kind"`
	Defined  string         `json:"kind_definition,omitempty" doc:"the SHA-256 of the definition of the kind, its first 12 hexadecimal digits"`
	Version  string         `json:"version"` // of the CMS
	Runtime  string         `json:"runtime"` // least version of what runs it
	Database ServerVersion  `json:"database"`
	Origin   Origin         `json:"origin"`
	List     *PackingList   `json:"packing_list"`
	Defaults []DefaultValue `json:"defaults,omitempty"` // what the fields hold in this release
	Totals   ReleaseTotals  `json:"totals"`
	Areas    []AreaTotal    `json:"areas"`
	Tables   []TableTotal   `json:"tables"`
	LeftOut  []LeftOut      `json:"left_out"`
	Blanked  []Blanked      `json:"blanked"`
	Notes    []string       `json:"notes,omitempty" format:"sentence"` // what happened while it was built
	// Without are views, triggers, routines and events of the source that it does not have, with the reason.
	Without  []string `json:"without,omitempty"`
	Settings string   `json:"settings_file"` // relative to files/
}

// Origin is where the site stood, so that its traces can be replaced.
type Origin struct {
	// Also are other addresses that the site answered to.
	Also    []string `json:"also,omitempty"`
	Address string   `json:"address"`
	WebRoot string   `json:"web_root"`
	// RealRoot is what the web root is called without the links on the way to it, where there are some.
	RealRoot string    `json:"real_web_root,omitempty"`
	Prefix   string    `json:"prefix"`
	SubSites []SubSite `json:"sub_sites,omitempty" doc:"of a network"`
}

// DefaultValue is the value of a field in the release.
type DefaultValue struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

// ReleaseTotals are sums over the archive; bytes are of content, not compressed.
type ReleaseTotals struct {
	Files   int64 `json:"files"`
	Folders int64 `json:"folders"`
	Links   int64 `json:"links"`
	Bytes   int64 `json:"bytes"` // of files
	Tables  int64 `json:"tables"`
	Rows    int64 `json:"rows"`
	SQLByte int64 `json:"sql_bytes"`
}

// AreaTotal is the share of one area; the database is one.
type AreaTotal struct {
	Area  string `json:"area"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// TableTotal is one table: its rows, their SQL, and the entries that hold them.
type TableTotal struct {
	Name     string            `json:"name"`
	Rows     int64             `json:"rows"`
	Bytes    int64             `json:"bytes"`
	Entries  int               `json:"entries"`
	Sums     map[string]uint64 `json:"sums,omitempty" doc:"by column: of whole numbers, all by exclusive or; of dates and the like, the CRC-32 of all values, added up"`
	UTF8Only bool              `json:"wide"` // all text columns are UTF-8
}

// LeftOut is what one rule of the packing list kept out.
type LeftOut struct {
	Rule  string `json:"rule"`
	Files int64  `json:"files"`
	Rows  int64  `json:"rows,omitempty"`
	Bytes int64  `json:"bytes"`
}

// Blanked is a value, or the rows of a table, that was emptied.
type Blanked struct {
	What  string `json:"what"`
	Times int64  `json:"times"`
}

// ServerVersion is what a server says of itself.
type ServerVersion struct {
	Engine  string `json:"engine"`  // "MariaDB", "MySQL", "PostgreSQL", "SQLite"; "" for none
	Number  string `json:"number"`  // "10.11.6"
	Charset string `json:"charset"` // default character set of the database at hand
}

// Difference says why an archive's size differs from that of the release before.
type Difference struct {
	From     string  `json:"from"`
	Sentence string  `json:"sentence" format:"sentence"`
	Causes   []Cause `json:"causes"`
}

// Setting is a value of a client.
type Setting struct {
	Value  string `json:"value"`
	Secret bool   `json:"secret,omitempty"`
}
