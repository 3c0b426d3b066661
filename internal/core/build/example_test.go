package build_test

import (
	"context"
	"fmt"
	"os"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
)

func ExampleRelease() {
	ctx := context.Background()
	script := "CREATE TABLE lad_lessons (id int NOT NULL, title text, PRIMARY KEY (id)); INSERT INTO lad_lessons VALUES (1,'Harp'),(2,'Lute');"
	db, err := sitedb.OpenDump(ctx, strings.NewReader(script), int64(len(script)), nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	out, err := os.CreateTemp("", "release")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.Remove(out.Name())
	defer out.Close()
	of := &kind.Identity{Kind: &kind.Kind{Name: "school"}, Prefix: "lad_"}
	_, err = build.Release(ctx, out, build.Input{DB: db, Identity: of, List: &packing.List{Only: "database"},
		Elsewhere: true, Manifest: archive.Manifest{Starter: "music-base", Number: 1}}, progress.Discard)
	if err != nil {
		fmt.Println(err)
		return
	}
	info, _ := out.Stat()
	a, err := archive.Open(out, info.Size())
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(a.Manifest.Ref(), a.Manifest.Totals.Rows, "rows")
	v, err := a.Verify(ctx, progress.Discard)
	fmt.Println(len(v.Faults), "faults", err)
	// Output:
	// music-base@1 2 rows
	// 0 faults <nil>
}
