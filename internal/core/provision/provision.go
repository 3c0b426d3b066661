// Package provision makes a site from a release: plan, steps, undo.
//
// Prepare looks at a release, a host and the values for a client, and says what would be made; it
// touches nothing. Make does it: files are placed beside where the site will be, rows are loaded into
// a database of its own with old addresses, paths and table prefix replaced on the way, settings and
// an administrator are made, and the folder is swapped in by one rename.
//
//	plan, err := provision.Prepare(ctx, req)
//	result, err := provision.Make(ctx, req, plan, journal, reporter)
//
// Before anything is made, the Journal hears of it. If a step fails, Make takes back what it had made;
// if the program is killed, whoever reads the journal calls Undo and gets the same. Passwords are made
// here and leave only in the Result.
package provision

import (
	"context"
	"errors"
	"regexp"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
)

// Request is what somebody asks for.
type Request struct {
	Archive *archive.Archive
	Kind    *kind.Kind
	FS      hostfs.FS
	Server  sitedb.Server

	Runtime *Runtime // of the host, where it has told

	Name    string // of the site: letters, digits, dashes
	Folder  string // where it goes, relative to the FS
	Address string
	// Files reads a file that is the value of a field (see packing.FileOf, packing.IsLink).
	Files   func(ctx context.Context, value string) (name string, content []byte, err error)
	Values  map[string]Given // by field key
	Visible bool             // to search engines
	// Shared is code that the site shares with others; nil for a site with its own.
	Shared *Shared
	// Plain is FS, but that what it makes is the service's own and not of the account that sites run as; nil where that is the same.
	Plain   hostfs.FS
	Replace *Existing // what stands there and is replaced; nil for a new site
	Refresh *Refresh  // of what stands there, only the code is replaced
	// Admin is the administrator of the site that this is a copy of, whose account stays; "" makes one.
	Admin string
	Hold  []byte // the page that visitors see while they are kept out (see kind.Hold); nil lets them in
	Quiet bool   // keeps mail from going out, where the kind can
	// MailAddresses at the old host become such at the new one.
	MailAddresses bool
	// Mend puts lengths right in serialised values that are broken in the source.
	Mend  bool
	RunID string // names what is made on the way
	// Visit asks for a page of the site as somebody would, on the host itself; nil where nobody can.
	Visit func(ctx context.Context, address, page string) (status int, body []byte, err error)
}

// Given is a value with where it comes from.
type Given struct {
	Value  string `json:"value"`
	Origin string `json:"origin"`
}

// ErrLeftBehind says that taking back did not work; the journal says what may still be there.
var ErrLeftBehind = errors.New("taking back what was made did not work either")

// origins of values that nobody gave
const (
	fromRelease = "release"
	fromField   = "default of the field"
)

var nameForm = regexp.MustCompile(`^[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?$`)

// now is the time that rows get.
func now() string { return time.Now().UTC().Format("2006-01-02 15:04:05") }
