package wire

import "time"

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
	Ending   []SiteRow    `json:"ending" doc:"sites whose certificates end soon, the first of them first"`
	Uncopied int          `json:"uncopied" doc:"public sites of which no safety copy was made for 30 days"`
}

// TodayGroup is a site, a source, a host, a run or the service with all that needs attention there.
type TodayGroup struct {
	Noun     string      `json:"noun" enum:"site,source,host,run,service"`
	Name     string      `json:"name"`
	Title    string      `json:"title"`
	Severity string      `json:"severity" enum:"fault,warning,note"`
	Items    []TodayItem `json:"items"`
}

// TodayItem is something that somebody should look at, with the act that settles it.
type TodayItem struct {
	Severity string `json:"severity" enum:"fault,warning,note"`
	Sentence string `json:"sentence" format:"sentence"`
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
