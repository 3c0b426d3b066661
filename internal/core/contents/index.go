package contents

import (
	"io/fs"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/filelist"
	"nestseed/internal/core/kind"
)

// Pack packs the list of an archive's entries, for New.
func Pack(entries []filelist.Entry, k *kind.Kind) []byte {
	for i := range entries {
		entries[i].Area = areaOf(entries[i].Path, k)
	}
	filelist.Sort(entries)
	return filelist.Encode(entries)
}

func areaOf(name string, k *kind.Kind) string {
	if p, in := strings.CutPrefix(name, archive.FilesDir); in {
		return k.AreaOf(p)
	}
	if strings.HasPrefix(name, archive.RowsDir) {
		return "database"
	}
	return ""
}

// Index lists the entries of an archive that was not built here, as Pack does.
func Index(a *archive.Archive, k *kind.Kind) ([]byte, error) {
	entries := make([]filelist.Entry, 0, len(a.Entries()))
	for _, f := range a.Entries() {
		e := filelist.Entry{Path: strings.TrimSuffix(f.Name, "/"), Bytes: int64(f.UncompressedSize64), Packed: int64(f.CompressedSize64),
			Modified: f.Modified.Unix(), Mode: f.Mode()}
		if e.Mode&fs.ModeSymlink != 0 {
			target, err := archive.ReadEntry(f, 4096)
			if err != nil {
				return nil, err
			}
			e.Target = string(target)
		}
		entries = append(entries, e)
	}
	return Pack(entries, k), nil
}
