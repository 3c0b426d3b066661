package wire

import "time"

// SiteRow is a site as lists show it.
type SiteRow struct {
	Name      string      `json:"name"`
	Title     string      `json:"title"`
	Client    string      `json:"client"`
	Host      string      `json:"host"`
	Release   string      `json:"release"`
	Install   string      `json:"install,omitempty" doc:"whose code it shares; none for a site with its own"`
	Address   string      `json:"address"`
	Bytes     int64       `json:"bytes"`
	MadeAt    time.Time   `json:"made_at"`
	RunID     int64       `json:"run_id"`
	Held      bool        `json:"held"`
	Visible   bool        `json:"visible" doc:"to search engines"`
	RetiredAt *time.Time  `json:"retired_at,omitempty"`
	Checks    CheckCounts `json:"checks"`
	Behind    int         `json:"behind" doc:"releases of its starter that are newer"`
	Tasks     int         `json:"tasks" doc:"launch tasks that are to be done"`
	Picture   string      `json:"picture,omitempty" doc:"where a picture of its first page is, below this interface; none where none was taken"`
	Leads     *bool       `json:"leads,omitempty" doc:"whether its name leads to its host; of hosts that say what to connect to"`
}

// CheckCounts says what the newest checks of a site came to.
type CheckCounts struct {
	At       *time.Time `json:"at,omitempty" doc:"missing where it was never checked"`
	Passed   int        `json:"passed"`
	Warned   int        `json:"warned"`
	Failed   int        `json:"failed"`
	Accepted int        `json:"accepted" doc:"of those that warn"`
}

// SitePage is a page of sites.
type SitePage struct {
	Sites  []SiteRow      `json:"sites"`
	Next   string         `json:"next,omitempty" doc:"cursor of the page behind it"`
	Total  int            `json:"total" doc:"of all pages, in any state"`
	States map[string]int `json:"states" doc:"how many of those are in each state"`
}

// ClientRow is a client as lists show it.
type ClientRow struct {
	Name      string    `json:"name"`
	Title     string    `json:"title"`
	Email     string    `json:"email"`
	Settings  int       `json:"settings" doc:"how many"`
	Sites     int       `json:"sites"`
	CreatedAt time.Time `json:"created_at"`
}

// ClientPage is a page of clients.
type ClientPage struct {
	Clients []ClientRow `json:"clients"`
	Next    string      `json:"next,omitempty" doc:"cursor of the page behind it"`
	Total   int         `json:"total"`
}

// Acceptance says that what a check has found is known, and harmless.
type Acceptance struct {
	What       string    `json:"what" doc:"a check of a site, or a finding of a source and where it is"`
	Reason     string    `json:"reason"`
	Who        string    `json:"who"`
	At         time.Time `json:"at"`
	Everywhere bool      `json:"everywhere,omitempty" doc:"on all sites of the starter"`
}

// Accept accepts what a check of a site has found, or a finding of a source, until something else is found.
type Accept struct {
	What       string `json:"what" minLength:"1" maxLength:"1000" doc:"the check, or the finding"`
	Where      string `json:"where,omitempty" maxLength:"4000" doc:"where the finding is"`
	Reason     string `json:"reason" minLength:"3" maxLength:"500"`
	Everywhere bool   `json:"everywhere,omitempty" doc:"on all sites of the starter, where just the same is found"`
}

// Today is the first page: how many there are, and what needs attention.
type Today struct {
	Sources  int          `json:"sources"`
	Starters int          `json:"starters"`
	Clients  int          `json:"clients"`
	Sites    int          `json:"sites"`
	Hosts    int          `json:"hosts"`
	Working  int          `json:"working"`
	Groups   []TodayGroup `json:"groups" doc:"what needs attention, worst first"`
	More     int          `json:"more" doc:"sites that need attention and are not among the groups"`
	Tasks    []TodayTask  `json:"tasks" doc:"launch tasks, those that are due first"`
	AllTasks int          `json:"all_tasks"`
	Held     []SiteRow    `json:"held" doc:"sites that visitors cannot see yet"`
	Leading  []SiteRow    `json:"leading" doc:"sites whose names lead to them since some days"`
	Behind   []Behind     `json:"behind"`
}

// TodayGroup is a site, a source or a run with all that needs attention there.
type TodayGroup struct {
	Noun     string      `json:"noun" enum:"site,source,run"`
	Name     string      `json:"name"`
	Title    string      `json:"title"`
	Severity string      `json:"severity" enum:"fault,warning,note"`
	Items    []TodayItem `json:"items"`
}

// TodayItem is something that somebody should look at, with the act that settles it.
type TodayItem struct {
	Severity string `json:"severity" enum:"fault,warning,note"`
	Sentence string `json:"sentence"`
	Act      string `json:"act" enum:"open,check,survey,retry"`
	What     string `json:"what,omitempty" doc:"the check or finding, where it can be accepted"`
	Where    string `json:"where,omitempty" doc:"where the finding is"`
}

// TodayTask is a launch task of a site.
type TodayTask struct {
	Site  string     `json:"site"`
	Title string     `json:"title" doc:"of the site"`
	Key   string     `json:"key"`
	Task  string     `json:"task"`
	Page  string     `json:"page,omitempty" doc:"where, as a whole address"`
	Due   *time.Time `json:"due,omitempty"`
}

// Behind is a starter of which sites are of older releases than its newest.
type Behind struct {
	Starter string `json:"starter"`
	Newest  int    `json:"newest"`
	Sites   int    `json:"sites"`
}

// Folders are the folders in a folder of a host.
type Folders struct {
	Folders []Folder `json:"folders"`
	More    bool     `json:"more" doc:"there are others, which are not listed"`
}

// Folder is a folder of a host.
type Folder struct {
	Name string `json:"name"`
	Kind string `json:"kind,omitempty" doc:"of the site that it looks like"`
}
