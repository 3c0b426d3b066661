package sqltext_test

import (
	"fmt"
	"strings"

	"nestseed/internal/core/sqltext"
)

func ExampleParseDefinition() {
	d, err := sqltext.ParseDefinition([]byte("CREATE TABLE base.lad_posts (ID bigint(20) NOT NULL, PRIMARY KEY (ID))"))
	fmt.Println(err)
	fmt.Println(strings.TrimSpace(d.Text(func(string) string { return "aldv_posts" })))
	_, err = sqltext.ParseDefinition([]byte("CREATE TABLE t (a int) AS SELECT * FROM mysql.user"))
	fmt.Println(err != nil)
	// Output:
	// <nil>
	// CREATE TABLE `aldv_posts` (
	//   `ID` bigint(20) NOT NULL,
	//   PRIMARY KEY (`ID`)
	// )
	// true
}
