package sitedb_test

import (
	"context"
	"fmt"
	"strings"

	"nestseed/internal/core/sitedb"
)

func ExampleOpenDump() {
	ctx := context.Background()
	script := "CREATE TABLE lessons (id int NOT NULL, title text, PRIMARY KEY (id));\nINSERT INTO lessons VALUES (1,'Harp'),(2,NULL);"
	dump, err := sitedb.OpenDump(ctx, strings.NewReader(script), int64(len(script)), nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	snapshot, err := dump.Snapshot(ctx)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer snapshot.Close()
	tables, _ := dump.Tables(ctx)
	err = snapshot.Rows(ctx, &tables[0], func(row [][]byte) error {
		fmt.Printf("%s %q %v\n", row[0], row[1], row[1] == nil)
		return nil
	})
	fmt.Println(err)
	// Output:
	// 1 "Harp" false
	// 2 "" true
	// <nil>
}
