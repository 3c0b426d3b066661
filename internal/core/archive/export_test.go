package archive

import (
	"archive/zip"
	"io"
)

const (
	DirBytes = dirBytes
	EndBytes = endBytes
)

// PlacesIn finds entries of an archive in bytes that may be others than it was opened from.
func (a *Archive) PlacesIn(r io.ReaderAt, sizeBytes int64) (map[*zip.File]int64, error) {
	return places(r, sizeBytes, a.zip.File)
}

// Places finds the entries of an archive.
func (a *Archive) Places() (map[*zip.File]int64, error) { return a.PlacesIn(a.from, a.size) }
