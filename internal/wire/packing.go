package wire

// PackingList is a packing list.
type PackingList struct {
	Name        string       `json:"list"`
	Only        string       `json:"only,omitempty" enum:"files,database"` // empty for both
	LeaveOut    LeaveOut     `json:"leave-out,omitzero"`
	Empty       []string     `json:"empty,omitempty"`     // tables that go in without rows; patterns with *
	KeepRows    []RowRule    `json:"keep-rows,omitempty"` // of these tables only these rows go in
	DropRows    []RowRule    `json:"drop-rows,omitempty"` // these do not; with either, rows that belong to one that is dropped go too
	Blank       Blank        `json:"blank,omitzero"`
	Fields      []Field      `json:"fields,omitempty"`
	SwitchOff   []string     `json:"switch-off,omitempty"` // extensions that new sites begin without, by folder; patterns with *
	LaunchTasks []ListedTask `json:"launch-tasks,omitempty"`
}

// LeaveOut names files and tables that do not go in at all.
type LeaveOut struct {
	Paths          []string `json:"paths,omitempty"`
	Suffixes       []string `json:"suffixes,omitempty"` // of file names, without the dot, in any case
	LargerThanByte int64    `json:"larger-than-bytes,omitempty"`
	Tables         []string `json:"tables,omitempty"` // patterns with *
}

// Blank names values that are emptied while what holds them goes in.
type Blank struct {
	Settings []string `json:"settings,omitempty"` // in the settings file
	Options  []string `json:"options,omitempty"`
	Values   []Inside `json:"values,omitempty"` // inside serialised or JSON options
	Columns  []Cell   `json:"columns,omitempty"`
}

// RowRule names rows by the value of a column; values may be patterns with *.
type RowRule struct {
	Table  string   `json:"table"`
	Column string   `json:"column"`
	Values []string `json:"values"`
}

// Field is a value that a starter asks for, and where it goes.
type Field struct {
	Key      string   `json:"key"`
	Label    string   `json:"label"`
	Type     string   `json:"type,omitempty" enum:"text,long-text,email,number,choice,colour,image,file,page,menu-entry"`
	Pattern  string   `json:"pattern,omitempty"` // a regular expression the whole value must match
	Example  string   `json:"example,omitempty"`
	Choices  []string `json:"choices,omitempty"`
	Default  string   `json:"default,omitempty"`
	Required bool     `json:"required,omitempty"`
	Secret   bool     `json:"secret,omitempty"`
	To       []Target `json:"to"`
}

// Target is a place for a field's value; exactly one of Option, Setting, Cell and Token is there.
type Target struct {
	Option  string   `json:"option,omitempty"`
	Path    []string `json:"path,omitempty"` // inside the option's serialised or JSON value
	Setting string   `json:"setting,omitempty"`
	Cell    *Spot    `json:"cell,omitempty"`
	Token   string   `json:"token,omitempty"` // text that the value takes the place of, in Files
	Files   []string `json:"files,omitempty"` // patterns
	As      string   `json:"as,omitempty" enum:"id,url,path" doc:"what of an image or a file is put there: its number on the site, its address, or its path"`
}

// Cell sets a column to a value in every row where it is not that already; Also sets others in those rows.
type Cell struct {
	Table  string            `json:"table"`
	Column string            `json:"column"`
	To     string            `json:"to,omitempty"`
	Also   map[string]string `json:"also,omitempty"`
}

// Inside points at one value inside an option.
type Inside struct {
	Option string   `json:"option"`
	Path   []string `json:"path"`
}

// SourceValue is a value of a source that a field could lead to: an option, one value inside an option, or a setting.
type SourceValue struct {
	Option  string   `json:"option,omitempty"`
	Path    []string `json:"path,omitempty" doc:"inside the option"`
	Setting string   `json:"setting,omitempty"`
	Text    string   `json:"text,omitempty" doc:"its beginning; of what is secret, nothing"`
	Inside  int      `json:"inside,omitempty" doc:"how many values are inside the option"`
	Secret  bool     `json:"secret,omitempty"`
}

// SourceValues are the values of a source that were asked for.
type SourceValues struct {
	Values []SourceValue `json:"values"`
	More   bool          `json:"more,omitempty" doc:"there are others; ask for fewer"`
}

// Spot is a cell: a column in the rows in which another column has a value.
type Spot struct {
	Table  string `json:"table"`
	Column string `json:"column"`
	Where  string `json:"where"`
	Is     string `json:"is"`
}

// ListedTask is something a person must still do on each new site.
type ListedTask struct {
	Key    string `json:"key"`
	Title  string `json:"title"`
	Detail string `json:"detail,omitempty"`
	Page   string `json:"page,omitempty"` // where on the site, relative to its address
}

// ListProblem is a rule that does nothing or says two things.
type ListProblem struct {
	Rule string `json:"rule"`
	Why  string `json:"why" format:"sentence"`
}

// ListEdit is one change of a packing list: what a remedy of a survey is, and what commands and the console send.
type ListEdit struct {
	LeaveOut       []string  `json:"leave_out,omitempty"` // patterns of paths
	LeaveOutTables []string  `json:"leave_out_tables,omitempty"`
	Suffixes       []string  `json:"suffixes,omitempty"`
	Empty          []string  `json:"empty,omitempty"`
	DropRows       []RowRule `json:"drop_rows,omitempty"`
	KeepRows       []RowRule `json:"keep_rows,omitempty"`
	BlankOptions   []string  `json:"blank_options,omitempty"`
	BlankValues    []Inside  `json:"blank_values,omitempty"`
	BlankSettings  []string  `json:"blank_settings,omitempty"` // of the settings file
	PutBack        []string  `json:"put_back,omitempty"`       // patterns, tables, suffixes, options or settings that are to go in after all
	TakeBack       bool      `json:"take_back,omitempty" doc:"takes all of the above out of the list again"`
}
