package wire

import "time"

// Client is a customer of the agency.
type Client struct {
	Name      string             `json:"name"`
	Settings  map[string]Setting `json:"settings"`
	Sites     int                `json:"sites"`
	CreatedAt time.Time          `json:"created_at"`
}

// NewClient makes a client.
type NewClient struct {
	Name     string            `json:"name" pattern:"^[a-z0-9][a-z0-9-]*$" maxLength:"63"`
	Settings map[string]string `json:"settings,omitempty"`
}

// Settings are values to set; an empty one is removed.
type Settings struct {
	Settings map[string]string `json:"settings"`
	Secret   []string          `json:"secret,omitempty" doc:"keys whose values are secret; licences, passwords, keys and tokens are so without being named"`
}

// NewClientFile is a picture or a file for a client.
type NewClientFile struct {
	Name    string `json:"name" minLength:"1" maxLength:"255"`
	Content []byte `json:"content" doc:"in base 64; at most 20 MB"`
}

// ClientFile is a picture or a file that a client has.
type ClientFile struct {
	Value  string `json:"value" doc:"what settings and fields of the types image and file name it by"`
	Name   string `json:"name"`
	Type   string `json:"type" doc:"of its content (RFC 2046)"`
	Bytes  int64  `json:"bytes"`
	Width  int    `json:"width,omitempty" doc:"of a picture, in pixels"`
	Height int    `json:"height,omitempty"`
}
