package wire

// SitePlan is what a provisioning will do.
type SitePlan struct {
	Release        string        `json:"release"`
	Name           string        `json:"name"`
	Address        string        `json:"address"`
	Folder         string        `json:"folder"` // absolute, on the host
	Database       string        `json:"database"`
	User           string        `json:"user"`
	Prefix         string        `json:"prefix"`
	OldPrefix      string        `json:"old_prefix"`
	Admin          string        `json:"admin"`
	Files          int64         `json:"files"`
	Bytes          int64         `json:"bytes"`
	Tables         int64         `json:"tables"`
	Rows           int64         `json:"rows"`
	Rules          Rules         `json:"rules"`
	Values         []Value       `json:"values"`
	Generated      []string      `json:"generated"` // credentials that will be made
	Visible        bool          `json:"visible"`
	FreeBytes      int64         `json:"free_bytes"`
	Shares         string        `json:"shares,omitempty" doc:"the install whose code it shares"`
	Replaces       string        `json:"replaces,omitempty"` // what stands there now, kept as a safety copy
	Keeps          []string      `json:"keeps,omitempty"`    // parts of it that the new site takes over
	Counts         []Count       `json:"counts,omitempty"`   // what will be replaced, by table and folder
	Samples        []ValueSample `json:"samples,omitempty"`
	SubSites       []PlanSubSite `json:"sub_sites,omitempty" doc:"of a network"`
	Given          bool          `json:"given,omitempty" doc:"the database and its account were there"`
	Refresh        *Refreshed    `json:"refresh,omitempty"` // of a site that takes newer code
	Server         string        `json:"server"`
	Engine         string        `json:"engine,omitempty"` // of the database: the scheme that its server is known by
	Runtime        string        `json:"runtime,omitempty"`
	Without        []string      `json:"without,omitempty" doc:"views, triggers, routines and events of the source that the release lacks"`
	Steps          []PlanStep    `json:"steps"`
	Missing        []string      `json:"missing"`                    // keys of fields without a value they need
	Problems       []string      `json:"problems" format:"sentence"` // sentences; with any, it cannot be done
	ExpectedMillis int64         `json:"expected_ms"`
}

// PlanStep is one line of the plan.
type PlanStep struct {
	Title  string `json:"title"`
	Detail string `json:"detail" format:"sentence"`
	Amount string `json:"amount,omitempty"`
}

// Value is a field with the value it will have.
type Value struct {
	Key     string   `json:"key"`
	Label   string   `json:"label"`
	Value   string   `json:"value"` // of secrets, dots
	Origin  string   `json:"origin"`
	To      []string `json:"to"`
	Secret  bool     `json:"secret,omitempty"`
	Problem string   `json:"problem,omitempty" format:"sentence"`
}

// ValueSample shows one place.
type ValueSample struct {
	Where string `json:"where"`
	Text  string `json:"text"`
}

// Count is how often the old address and folder are found in a table or folder of the release.
type Count struct {
	Where  string `json:"where"`
	Places int64  `json:"places"`
}

// UnitChange is a part of the code, and how many of its files differ.
type UnitChange struct {
	Unit    string `json:"unit"`
	Added   int    `json:"added"`
	Changed int    `json:"changed"`
	Removed int    `json:"removed"`
}

// Rules say what to replace. The zero value replaces nothing.
type Rules struct {
	// Addresses are absolute http or https addresses, with or without port and folder.
	Addresses []AddressPair `json:"addresses"`
	// Paths are absolute folders on disk, at least two segments deep: a shorter one would match by accident.
	Paths []AddressPair `json:"paths"`
	// Mail changes mail addresses at an old host too, without a www. before either.
	Mail bool `json:"mail,omitempty"`
	// Mend puts the lengths of strings right in serialised values that are broken.
	Mend bool `json:"mend,omitempty"`
}

// AddressPair is something old and what takes its place.
type AddressPair struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// RewriteSample shows one replacement with a little of what stands around it.
type RewriteSample struct {
	Form   string `json:"form"` // the disguise it stood in
	Where  string `json:"where"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// RewriteTally counts what was replaced.
type RewriteTally struct {
	Forms      map[string]int64 `json:"forms"`            // replacements by disguise
	Replaced   int64            `json:"replaced"`         // replacements in all
	Values     int64            `json:"values"`           // values, or files, that changed
	Serialised int64            `json:"serialised"`       // changed values that were serialised PHP
	Broken     int64            `json:"broken"`           // serialised values that were broken before
	Mended     int64            `json:"mended,omitempty"` // of them, those that are whole now
	Packed     int64            `json:"packed,omitempty" doc:"changed values that were compressed or encoded, and are again"`
	Unopened   int64            `json:"unopened,omitempty" doc:"compressed values that are too large to be opened"`
	BrokenAt   []string         `json:"broken_at,omitempty"` // some of them: where, and how they begin
	Samples    []RewriteSample  `json:"samples,omitempty"`
}

// PlanSubSite is one of the sites of a network, with the address that it had and the one it will have.
type PlanSubSite struct {
	ID      string `json:"id"`
	Main    bool   `json:"main,omitempty"`
	Title   string `json:"title,omitempty"`
	Was     string `json:"was"`
	Address string `json:"address"`
}
