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
	Ends      *time.Time  `json:"ends,omitempty" doc:"when its certificate does"`
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
