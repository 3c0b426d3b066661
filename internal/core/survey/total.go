package survey

import (
	"runtime"
	"slices"
	"strings"
	"sync"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sitedb"
)

// Share is a number of files and rows with their bytes.
type Share struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
	Rows  int64 `json:"rows"`
	Data  int64 `json:"database_bytes"`
}

func (s *Share) add(o Share) {
	s.Files += o.Files
	s.Bytes += o.Bytes
	s.Rows += o.Rows
	s.Data += o.Data
}

// Total says what a packing list would take and what it would leave, and what each rule saves. Files are
// counted; rows are, where the survey counted them by the column a rule names, else the rule saves nothing here.
func (s *Survey) Total(m *packing.Matcher) (in, out Share, saved map[string]Share) {
	saved = map[string]Share{}
	save := func(rule string, share Share) {
		r := saved[rule]
		r.add(share)
		saved[rule] = r
		out.add(share)
	}
	// Files come by path, so each core takes a stretch of them.
	stretches := make([]tally, max(1, min(runtime.GOMAXPROCS(0), len(s.Files)/10_000)))
	var group sync.WaitGroup
	for i := range stretches {
		group.Go(func() {
			stretches[i].total(m, s.Files[i*len(s.Files)/len(stretches):(i+1)*len(s.Files)/len(stretches)])
		})
	}
	group.Wait()
	for _, t := range stretches {
		in.add(t.in)
		for rule, r := range t.byRule {
			save(rule, *r)
		}
	}
	for i := range s.Tables {
		t := &s.Tables[i]
		rule, leave := m.LeavesOutTable(t.Name)
		if m.Empties(t.Name) && !leave {
			rule, leave = "empty: "+strings.TrimPrefix(t.Name, s.Prefix), true
		}
		if leave {
			save(rule, Share{Rows: t.Rows, Data: t.DataBytes})
			continue
		}
		rest := Share{Rows: t.Rows, Data: t.DataBytes}
		for rule, gone := range s.dropped(m.List(), strings.TrimPrefix(t.Name, s.Prefix)) {
			gone.Rows, gone.Data = min(gone.Rows, rest.Rows), min(gone.Data, rest.Data)
			rest.Rows -= gone.Rows
			rest.Data -= gone.Data
			save(rule, gone)
		}
		in.add(rest)
	}
	return in, out, saved
}

// tally is the total of a stretch of files.
type tally struct {
	in     Share
	byRule map[string]*Share
}

func (t *tally) total(m *packing.Matcher, files []filelist.Entry) {
	t.byRule = map[string]*Share{}
	sweep := m.Sweep()
	for i := range files {
		f := &files[i]
		rule, leave := sweep(f.Path, f.Bytes)
		if !leave {
			t.in.Files++
			t.in.Bytes += f.Bytes
			continue
		}
		r := t.byRule[rule]
		if r == nil {
			r = &Share{}
			t.byRule[rule] = r
		}
		r.Files++
		r.Bytes += f.Bytes
	}
}

// dropped returns what the rules for rows save in a table: by its own columns, and by those of the tables its
// rows belong to.
func (s *Survey) dropped(l *packing.List, table string) map[string]Share {
	out := map[string]Share{}
	for _, g := range s.Groups {
		if g.Table != table {
			continue
		}
		decides := g.Table
		if g.By != "" {
			decides = g.By
		}
		for _, d := range l.DropRows {
			if d.Table == decides && d.Column == g.Column {
				share := out["drop-rows: "+d.Table+" by "+d.Column]
				share.add(g.sum(func(v string) bool { return matches(d, v) }))
				out["drop-rows: "+d.Table+" by "+d.Column] = share
			}
		}
		for _, k := range l.KeepRows {
			if k.Table == decides && k.Column == g.Column {
				share := out["keep-rows: "+k.Table+" by "+k.Column]
				share.add(g.sum(func(v string) bool { return !matches(k, v) }))
				out["keep-rows: "+k.Table+" by "+k.Column] = share
			}
		}
	}
	return out
}

func matches(r kind.Rows, value string) bool {
	return slices.ContainsFunc(r.Values, func(p string) bool { return p == value || strings.ContainsAny(p, "*?") && packing.Wild(p, value) })
}

func (g Groups) sum(pick func(string) bool) (share Share) {
	for _, v := range g.Values {
		if pick(v.Value) {
			share.Rows += v.Rows
			share.Data += v.Bytes
		}
	}
	return share
}

// Rows returns how many rows of a table have one of the values in a column, as far as they were counted.
func (s *Survey) Rows(r kind.Rows) sitedb.Group {
	var sum sitedb.Group
	for _, g := range s.Groups {
		if g.Table == r.Table && g.Column == r.Column && g.By == "" {
			share := g.sum(func(v string) bool { return matches(r, v) })
			sum.Rows += share.Rows
			sum.Bytes += share.Data
		}
	}
	return sum
}
