package wire

import "time"

// Survey is one reading of a source.
type Survey struct {
	TakenAt    time.Time     `json:"taken_at"`
	TookMillis int64         `json:"took_ms"`
	Kind       string        `json:"kind"`
	KindTitle  string        `json:"kind_title"`
	Version    string        `json:"version"`
	Runtime    string        `json:"runtime"`           // least version of PHP
	Running    string        `json:"running,omitempty"` // version of PHP that the site says it runs on
	Database   ServerVersion `json:"database"`
	Address    string        `json:"address"`
	// Also are other addresses that the site gives for itself.
	Also     []string       `json:"also,omitempty"`
	Title    string         `json:"title"`
	SubSites []SubSite      `json:"sub_sites,omitempty" doc:"of a network"`
	WebRoot  string         `json:"web_root"`
	Prefix   string         `json:"prefix"`
	Totals   SurveyTotals   `json:"totals"`
	Areas    []SurveyArea   `json:"areas"`
	Folders  []SurveyFolder `json:"folders"` // down to three levels, largest first
	Largest  []SurveyFile   `json:"largest"`
	Tables   []Table        `json:"tables"`
	Groups   []Groups       `json:"groups,omitempty"` // rows by the values of some columns
	Findings []Finding      `json:"findings"`
}

// SurveyTotals are sums over everything that was seen.
type SurveyTotals struct {
	Files         int64 `json:"files"`
	Folders       int64 `json:"folders"`
	Links         int64 `json:"links"`
	Bytes         int64 `json:"bytes"`
	Tables        int64 `json:"tables"`
	Rows          int64 `json:"rows"` // the server's estimate
	DatabaseBytes int64 `json:"database_bytes"`
}

// SurveyArea is the share of one area.
type SurveyArea struct {
	Area  string `json:"area"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Share is a number of files and rows with their bytes.
type Share struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
	Rows  int64 `json:"rows"`
	Data  int64 `json:"database_bytes"`
}

// SurveyFolder is a folder with all that is below it.
type SurveyFolder struct {
	Path  string `json:"path"`
	Area  string `json:"area"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// SurveyFile is one file.
type SurveyFile struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Area  string `json:"area,omitempty"`
}

// Finding is something the survey noticed, with what to do about it.
type Finding struct {
	Severity string    `json:"severity" enum:"fault,warning,note"`
	What     string    `json:"what"`
	Where    string    `json:"where"`
	Bytes    int64     `json:"bytes"`
	Count    int64     `json:"count,omitempty"` // of files, rows or places
	Why      string    `json:"why" format:"sentence"`
	Examples []string  `json:"examples,omitempty"`
	Remedy   *ListEdit `json:"remedy,omitempty"`                   // one edit of the packing list
	Advice   string    `json:"advice,omitempty" format:"sentence"` // what to do where no packing list can help
}

// Groups are the rows of a table by the values of a column; of a table that rows of another belong to, By says
// whose column it is.
type Groups struct {
	Table  string  `json:"table"` // without prefix
	Column string  `json:"column"`
	By     string  `json:"by,omitempty"` // table whose column it is, where it is not Table
	Values []Group `json:"values"`
}

// Group is the rows that have one value in a column.
type Group struct {
	Value string `json:"value"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
}

// Table is a table as the database describes it.
type Table struct {
	Name       string   `json:"name"`
	Rows       int64    `json:"rows"` // the server's estimate
	DataBytes  int64    `json:"data_bytes"`
	IndexBytes int64    `json:"index_bytes"`
	Engine     string   `json:"engine"`
	Collation  string   `json:"collation"`
	View       bool     `json:"view,omitempty"`
	Columns    []Column `json:"columns,omitempty"`
	PrimaryKey []string `json:"primary_key,omitempty"`
}

// Column is one column of a table. Generated ones are computed by the server and not part of rows.
type Column struct {
	Name      string `json:"name"`
	Type      string `json:"type"`
	Charset   string `json:"charset,omitempty"`
	Numeric   bool   `json:"numeric,omitempty"`
	Generated bool   `json:"generated,omitempty"`
	Binary    bool   `json:"binary,omitempty"`
}

// SubSite is one of the sites of a network.
type SubSite struct {
	ID      string `json:"id" doc:"its number"`
	Main    bool   `json:"main,omitempty"`
	Address string `json:"address"`
	Title   string `json:"title,omitempty"`
}
