package wire

import "time"

// ChangedStarter changes what a starter is built from.
type ChangedStarter struct {
	Source string `json:"source" minLength:"1"`
}

// Starter is a named line of releases.
type Starter struct {
	Name      string    `json:"name"`
	Source    string    `json:"source"`
	Kind      string    `json:"kind"`
	Releases  int       `json:"releases"`
	Newest    int       `json:"newest,omitempty"`
	CreatedAt time.Time `json:"created_at"`
	Retention Retention `json:"retention"`
}

// NewStarter makes a starter with a stock packing list, and perhaps further fields.
type NewStarter struct {
	Name   string  `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"60"`
	Source string  `json:"source"`
	List   string  `json:"list,omitempty" doc:"stock list; starter unless given"`
	Fields []Field `json:"fields,omitempty"`
	// Tasks are what a person must still do on each new site.
	Tasks []ListedTask `json:"launch_tasks,omitempty"`
}

// Packing is a starter's packing list with what it would take.
type Packing struct {
	Text     string           `json:"text"`
	List     *PackingList     `json:"list"`
	Surveyed bool             `json:"surveyed"` // without a survey there are no totals
	In       Share            `json:"in"`
	Out      Share            `json:"out"`
	Saved    map[string]Share `json:"saved"`
	Problems []ListProblem    `json:"problems"`
}

// PackingText replaces a packing list.
type PackingText struct {
	Text string `json:"text"`
}

// TriedList is a packing list that is not kept, and an edit of it that is made first.
type TriedList struct {
	Text string    `json:"text"`
	Edit *ListEdit `json:"edit,omitempty"`
}

// ListLevel asks what a packing list does with what lies in a folder of the source.
type ListLevel struct {
	Text string `json:"text"`
	Path string `json:"path,omitempty" maxLength:"4000" doc:"the folder; none for the web root"`
	Find string `json:"find,omitempty" maxLength:"400" doc:"a part of the path of files below it, or a pattern"`
}

// PackedLevel is what lies in a folder of the source, and its tables, with what a packing list does with them.
type PackedLevel struct {
	Nodes  []PackedNode  `json:"nodes" doc:"the largest first"`
	All    int           `json:"all" doc:"how many there are; the nodes are the largest of them"`
	Tables []PackedTable `json:"tables" doc:"with the web root"`
}

// PackedNode is a folder or file of the source.
type PackedNode struct {
	Path     string `json:"path"`
	Name     string `json:"name"`
	Folder   bool   `json:"folder"`
	Area     string `json:"area"`
	Files    int64  `json:"files"`
	Bytes    int64  `json:"bytes"`
	OutFiles int64  `json:"out_files" doc:"that stay out"`
	OutBytes int64  `json:"out_bytes"`
	Rule     string `json:"rule,omitempty" doc:"that keeps most of those out"`
}

// PackedTable is a table of the source.
type PackedTable struct {
	Name  string `json:"name" doc:"without prefix"`
	Rows  int64  `json:"rows" doc:"the server's estimate"`
	Bytes int64  `json:"bytes"`
	State string `json:"state" enum:"in,out,empty"`
	Rule  string `json:"rule,omitempty"`
}

// Retention says which archives of a starter are kept, besides those that sites were made from; all when both
// are 0.
type Retention struct {
	Last  int `json:"last" minimum:"0" maximum:"10000" doc:"the last so many"`
	Weeks int `json:"weeks" minimum:"0" maximum:"520" doc:"and one a week for so many weeks"`
}
