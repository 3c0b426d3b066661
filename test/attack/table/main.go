// Command table reads what tests print, and writes the attacks that they have stopped as a table: attack, what was tried, what stopped it. It
// fails when a test has.
//
//	go test -v -run Attack ./... | go run ./test/attack/table
package main

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"nestseed/test/attack"
)

func main() {
	var rows []string
	failed := false
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		line := lines.Text()
		if at := strings.Index(line, attack.Mark); at >= 0 {
			rows = append(rows, line[at+len(attack.Mark):])
			continue
		}
		if strings.HasPrefix(strings.TrimSpace(line), "--- FAIL") || strings.HasPrefix(line, "FAIL") {
			failed = true
			fmt.Fprintln(os.Stderr, line)
		}
	}
	slices.Sort(rows)
	out := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(out, "attack\twhat was tried\twhat stopped it")
	for _, row := range slices.Compact(rows) {
		cells := strings.SplitN(row, "\t", 3)
		for i := range cells {
			if text := []rune(cells[i]); len(text) > 110 {
				cells[i] = string(text[:109]) + "…"
			}
		}
		fmt.Fprintln(out, strings.Join(cells, "\t"))
	}
	if err := out.Flush(); err != nil || failed || len(rows) == 0 {
		os.Exit(1)
	}
}
