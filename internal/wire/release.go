package wire

import "time"

// NewRelease asks for a build.
type NewRelease struct {
	Note string `json:"note,omitempty" maxLength:"500"`
	Full bool   `json:"full,omitempty" doc:"read and compress everything; without it, what did not change is copied from the release before"`
}

// NewComparison asks how a release differs from another, or from its source today.
type NewComparison struct {
	From     string `json:"from" minLength:"1"`
	To       string `json:"to,omitempty"`
	ToSource bool   `json:"to_source,omitempty"`
}

// GivenFile is a file that was uploaded, or a link to one.
type GivenFile struct {
	Upload string `json:"upload,omitempty" doc:"the last part of the address that tus gave the upload"`
	Link   string `json:"link,omitempty" doc:"https:// or http://"`
}

// NewImport asks for a release to be imported: an archive of a release (whole or in volumes, sealed or not), or
// archives and dumps that were made elsewhere.
type NewImport struct {
	Files    []GivenFile `json:"files" minItems:"1" maxItems:"1000"`
	Database *GivenFile  `json:"database,omitempty" doc:"the dump, where it is not among the files"`
	Key      string      `json:"key,omitempty" doc:"key or passphrase of a sealed archive"`
	List     string      `json:"list,omitempty" doc:"stock packing list, for a starter that is new; starter unless given"`
	Note     string      `json:"note,omitempty" maxLength:"500"`
	Trust    bool        `json:"trust,omitempty" doc:"the archive is one's own: views, triggers and routines in it are taken over; owners only"`
}

// LinkCheck asks what a link leads to.
type LinkCheck struct {
	Link string `json:"link" minLength:"1"`
}

// Seal asks for an archive encrypted in the format of age (age-encryption.org/v1).
type Seal struct {
	Recipients []string `json:"recipients,omitempty" doc:"age1…"`
	Passphrase string   `json:"passphrase,omitempty"`
}

// Volume is one piece of an archive that is cut.
type Volume struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
	Path  string `json:"path" doc:"where it is, below /api/v1"`
}

// Release is one build of a starter.
type Release struct {
	Ref          string        `json:"ref"`
	Starter      string        `json:"starter"`
	Number       int           `json:"number"`
	Made         time.Time     `json:"made"`
	By           string        `json:"by"`
	Note         string        `json:"note"`
	Source       string        `json:"source"`
	KindTitle    string        `json:"kind_title"`
	Version      string        `json:"version"`
	ArchiveBytes int64         `json:"archive_bytes"`
	SumsSHA256   string        `json:"sums_sha256"` // of SHA256SUMS, which pins everything else
	Kept         bool          `json:"kept"`        // its archive is there
	Totals       ReleaseTotals `json:"totals"`
	Areas        []AreaTotal   `json:"areas"`
	VerifiedAt   *time.Time    `json:"verified_at,omitempty"`
	Faults       int           `json:"faults"`
	Sites        int           `json:"sites"`
	BeforeBytes  *int64        `json:"before_bytes,omitempty"` // size of the release before
	RunID        *int64        `json:"run_id,omitempty"`
	ImportedFrom string        `json:"imported_from,omitempty"`
	Difference   *Difference   `json:"difference,omitempty"` // to the release before
	DiscardedAt  *time.Time    `json:"discarded_at,omitempty"`
	DiscardedWhy string        `json:"discarded_why,omitempty"`
	FreedBytes   *int64        `json:"freed_bytes,omitempty" doc:"when it was just discarded: of the store, that are free now; the rest is shared with other archives"`
	Manifest     *Manifest     `json:"manifest,omitempty"` // of one release, not in lists
}

// Contents is a part of what is in an archive, largest first.
type Contents struct {
	Ref   string  `json:"ref"`
	Path  string  `json:"path"`
	Bytes int64   `json:"bytes"`
	Nodes []*Node `json:"nodes"`
}
