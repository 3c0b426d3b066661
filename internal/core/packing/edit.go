package packing

import (
	"slices"

	"nestseed/internal/core/kind"
)

// Edit is one change of a packing list: what a remedy of a survey is, and what commands and the console send.
type Edit struct {
	LeaveOut       []string    `json:"leave_out,omitempty"` // patterns of paths
	LeaveOutTables []string    `json:"leave_out_tables,omitempty"`
	Suffixes       []string    `json:"suffixes,omitempty"`
	Empty          []string    `json:"empty,omitempty"`
	DropRows       []kind.Rows `json:"drop_rows,omitempty"`
	KeepRows       []kind.Rows `json:"keep_rows,omitempty"`
	BlankOptions   []string    `json:"blank_options,omitempty"`
	BlankValues    []Inside    `json:"blank_values,omitempty"`
	BlankSettings  []string    `json:"blank_settings,omitempty"` // of the settings file
	PutBack        []string    `json:"put_back,omitempty"`       // patterns, tables, suffixes, options or settings that are to go in after all
	TakeBack       bool        `json:"take_back,omitempty"`      // takes all of the above out of the list again
}

// Apply makes the change. What is there already is not added twice; what should be put back and was not left
// out is returned.
func (e Edit) Apply(l *List) (unknown []string) {
	if e.TakeBack {
		e.takeBack(l)
		return nil
	}
	add := func(to *[]string, more []string) {
		for _, m := range more {
			if !slices.Contains(*to, m) {
				*to = append(*to, m)
			}
		}
	}
	add(&l.LeaveOut.Paths, e.LeaveOut)
	add(&l.LeaveOut.Tables, e.LeaveOutTables)
	add(&l.LeaveOut.Suffixes, e.Suffixes)
	add(&l.Empty, e.Empty)
	add(&l.Blank.Options, e.BlankOptions)
	add(&l.Blank.Settings, e.BlankSettings)
	addRows(&l.DropRows, e.DropRows)
	addRows(&l.KeepRows, e.KeepRows)
	for _, v := range e.BlankValues {
		if !slices.ContainsFunc(l.Blank.Values, func(o Inside) bool { return o.String() == v.String() }) {
			l.Blank.Values = append(l.Blank.Values, v)
		}
	}
	for _, p := range e.PutBack {
		if !l.putBack(p) {
			unknown = append(unknown, p)
		}
	}
	return unknown
}

// In reports whether a list has all that the edit would add.
func (e Edit) In(l *List) bool {
	was, err := l.Text()
	if err != nil {
		return false
	}
	again, err := Parse(was)
	if err != nil {
		return false
	}
	e.Apply(again)
	now, err := again.Text()
	return err == nil && string(was) == string(now)
}

// takeBack undoes the change.
func (e Edit) takeBack(l *List) {
	remove := func(from *[]string, these []string) {
		*from = slices.DeleteFunc(slices.Clone(*from), func(s string) bool { return slices.Contains(these, s) })
	}
	remove(&l.LeaveOut.Paths, e.LeaveOut)
	remove(&l.LeaveOut.Tables, e.LeaveOutTables)
	remove(&l.LeaveOut.Suffixes, e.Suffixes)
	remove(&l.Empty, e.Empty)
	remove(&l.Blank.Options, e.BlankOptions)
	remove(&l.Blank.Settings, e.BlankSettings)
	removeRows(&l.DropRows, e.DropRows)
	removeRows(&l.KeepRows, e.KeepRows)
	l.Blank.Values = slices.DeleteFunc(slices.Clone(l.Blank.Values), func(o Inside) bool {
		return slices.ContainsFunc(e.BlankValues, func(v Inside) bool { return o.String() == v.String() })
	})
}

func removeRows(from *[]kind.Rows, these []kind.Rows) {
	for _, r := range these {
		for i := range *from {
			if at := &(*from)[i]; at.Table == r.Table && at.Column == r.Column {
				at.Values = slices.DeleteFunc(slices.Clone(at.Values), func(v string) bool { return slices.Contains(r.Values, v) })
			}
		}
	}
	*from = slices.DeleteFunc(slices.Clone(*from), func(r kind.Rows) bool { return len(r.Values) == 0 })
}

// addRows merges rules of the same column.
func addRows(to *[]kind.Rows, more []kind.Rows) {
	for _, r := range more {
		i := slices.IndexFunc(*to, func(o kind.Rows) bool { return o.Table == r.Table && o.Column == r.Column })
		if i < 0 {
			*to = append(*to, kind.Rows{Table: r.Table, Column: r.Column})
			i = len(*to) - 1
		}
		at := &(*to)[i]
		for _, v := range r.Values {
			if !slices.Contains(at.Values, v) {
				at.Values = append(slices.Clip(at.Values), v)
			}
		}
	}
}

func (l *List) putBack(p string) (found bool) {
	for _, from := range []*[]string{&l.LeaveOut.Paths, &l.LeaveOut.Tables, &l.LeaveOut.Suffixes, &l.Empty, &l.Blank.Options,
		&l.Blank.Settings} {
		if i := slices.Index(*from, p); i >= 0 {
			*from = slices.Delete(slices.Clone(*from), i, i+1)
			found = true
		}
	}
	return found
}
