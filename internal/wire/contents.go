package wire

import "time"

// Node is a file or folder of the archive with the sums of what is below it. The database is a folder of tables.
type Node struct {
	Name     string    `json:"name"`
	Path     string    `json:"path"`
	Folder   bool      `json:"folder,omitempty"`
	Link     string    `json:"link,omitempty"`
	Area     string    `json:"area,omitempty"`
	Files    int64     `json:"files"`
	Bytes    int64     `json:"bytes"`
	Packed   int64     `json:"packed"`
	Rows     int64     `json:"rows,omitempty"`
	Modified time.Time `json:"modified"`
}

// MapNode is a Node with its children, for a size map.
type MapNode struct {
	Name     string     `json:"name"`
	Path     string     `json:"path"`
	Area     string     `json:"area"`
	Bytes    int64      `json:"bytes"`
	Folder   bool       `json:"folder,omitempty"`
	Children []*MapNode `json:"children,omitempty"`
}

// TableRows are the first rows of a table of a release, as text; null is NULL.
type TableRows struct {
	Columns []string    `json:"columns"`
	Rows    [][]*string `json:"rows"`
	All     int64       `json:"all" doc:"how many the table has"`
}
