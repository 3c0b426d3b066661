package wire

import "time"

// ClientRow is a client as lists show it.
type ClientRow struct {
	Name      string             `json:"name"`
	Title     string             `json:"title"`
	Email     string             `json:"email"`
	Settings  int                `json:"settings" doc:"how many"`
	Values    map[string]Setting `json:"values,omitempty" doc:"of the settings that were asked for; secrets have none"`
	Sites     int                `json:"sites"`
	CreatedAt time.Time          `json:"created_at"`
}

// ClientPage is a page of clients.
type ClientPage struct {
	Clients []ClientRow `json:"clients"`
	Next    string      `json:"next,omitempty" doc:"cursor of the page behind it"`
	Total   int         `json:"total"`
}
