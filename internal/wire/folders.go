package wire

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
