// Package archive writes and reads the archive of a release: one ordinary ZIP file.
//
// Build streams a site into an archive: files, then rows of one consistent snapshot, each entry
// compressed and hashed in one pass on all cores, with a manifest in front and SHA-256 sums at the end.
// Open reads one by ranges: contents, single files and tables come out without reading the rest.
//
//	m, err := archive.Build(ctx, file, archive.Input{…}, reporter)
//	a, err := archive.Open(file, size)
//	err = a.Verify(ctx, reporter)
//
// Format: APPNOTE.TXT 6.3 with ZIP64 where needed, UTF-8 names, methods store and deflate; the layout
// is described in docs/archive.md. Writing the same input gives the same bytes.
//
// An archive that is read is not trusted: names are judged before they are used (see CheckName), sizes
// and sums are enforced while reading, and nothing here writes to disk by a name from an archive
// except through a hostfs.FS, which cannot be left.
package archive

import (
	"encoding/json"
	"fmt"
	"time"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sitedb"
)

// Format is the version of the format that this package writes.
const Format = 1

// Names of the fixed entries.
const (
	ManifestName = "nestseed.json"
	ReadMeName   = "READ-ME.txt"
	SumsName     = "SHA256SUMS"
	SchemaName   = "database/schema.sql"
	AfterName    = "database/after.sql"
	FilesDir     = "files/"
	RowsDir      = "database/rows/"
)

// Manifest describes a release. Fields it does not know are ignored by a reader.
type Manifest struct {
	Format   int            `json:"format"`
	ID       string         `json:"id"`
	Starter  string         `json:"starter"`
	Number   int            `json:"number"`
	Made     time.Time      `json:"made"`
	By       string         `json:"by"`
	Note     string         `json:"note,omitempty"`
	Parent   string         `json:"parent,omitempty"`
	Source   string         `json:"source"`
	Kind     string         `json:"kind"`
	Defined  string         `json:"kind_definition,omitempty"` // the SHA-256 of the kind's definition, its first 12 hexadecimal digits
	Version  string         `json:"version"`                   // of the CMS
	Runtime  string         `json:"runtime"`                   // least version of what runs it
	Database sitedb.Version `json:"database"`
	Origin   Origin         `json:"origin"`
	List     *packing.List  `json:"packing_list"`
	Defaults []Default      `json:"defaults,omitempty"` // what the fields hold in this release
	Totals   Totals         `json:"totals"`
	Areas    []AreaTotal    `json:"areas"`
	Tables   []TableTotal   `json:"tables"`
	LeftOut  []LeftOut      `json:"left_out"`
	Blanked  []Blanked      `json:"blanked"`
	Notes    []string       `json:"notes,omitempty"` // what happened while it was built
	// Without are views, triggers, routines and events of the source that it does not have, with the reason.
	Without  []string `json:"without,omitempty"`
	Settings string   `json:"settings_file"` // relative to files/
}

// MostAddresses is how many other addresses of a site a manifest may name: all of them are looked for at once.
const MostAddresses = 12

// MostSubSites is how many sub-sites of a network a manifest may name.
const MostSubSites = 2000

// Origin is where the site stood, so that its traces can be replaced.
type Origin struct {
	// Also are other addresses that the site answered to.
	Also    []string `json:"also,omitempty"`
	Address string   `json:"address"`
	WebRoot string   `json:"web_root"`
	// RealRoot is what the web root is called without the links on the way to it, where there are some.
	RealRoot string `json:"real_web_root,omitempty"`
	Prefix   string `json:"prefix"`
	// SubSites are the sites of a network.
	SubSites []kind.SubSite `json:"sub_sites,omitempty"`
}

// KindOf returns the kind of the site that the release holds, by the kind of its name: with its engine and, of a network, its sub-sites.
func (m *Manifest) KindOf(k *kind.Kind) *kind.Kind {
	return k.On(m.Database.Engine).OfNetwork(m.Origin.SubSites)
}

// Default is the value of a field in the release.
type Default struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

// Totals are sums over the archive; bytes are of content, not compressed.
type Totals struct {
	Files   int64 `json:"files"`
	Folders int64 `json:"folders"`
	Links   int64 `json:"links"`
	Bytes   int64 `json:"bytes"` // of files
	Tables  int64 `json:"tables"`
	Rows    int64 `json:"rows"`
	SQLByte int64 `json:"sql_bytes"`
}

// AreaTotal is the share of one area; the database is one.
type AreaTotal struct {
	Area  string `json:"area"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// TableTotal is one table: its rows, their SQL, and the entries that hold them.
type TableTotal struct {
	Name     string `json:"name"`
	Rows     int64  `json:"rows"`
	Bytes    int64  `json:"bytes"`
	Entries  int    `json:"entries"`
	UTF8Only bool   `json:"wide"` // all text columns are UTF-8
	// Sums are, by column: of whole numbers, all values by exclusive or; of decimal numbers, dates and the like, the CRC-32 (ISO
	// 3309) of all values as a server writes them, added up.
	Sums map[string]uint64 `json:"sums,omitempty"`
}

// LeftOut is what one rule of the packing list kept out.
type LeftOut struct {
	Rule  string `json:"rule"`
	Files int64  `json:"files"`
	Rows  int64  `json:"rows,omitempty"`
	Bytes int64  `json:"bytes"`
}

// Blanked is a value, or the rows of a table, that was emptied.
type Blanked struct {
	What  string `json:"what"`
	Times int64  `json:"times"`
}

// Ref returns the release as it is written: name@3.
func (m *Manifest) Ref() string { return fmt.Sprintf("%s@%d", m.Starter, m.Number) }

func (m *Manifest) Encode() ([]byte, error) {
	b, err := json.MarshalIndent(m, "", "  ")
	return append(b, '\n'), err
}
