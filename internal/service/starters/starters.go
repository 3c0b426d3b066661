// Package starters is what the service does with starters: their packing lists.
package starters

import (
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/service/records"
)

// Starters is the starters of the records.
type Starters struct {
	Kinds []*kind.Kind
}

// Matcher compiles a starter's packing list against its source's newest survey.
func (s *Starters) Matcher(t records.Starter, prefix string) (*packing.Matcher, error) {
	list, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, err
	}
	k, err := kind.Named(s.Kinds, t.Kind)
	if err != nil {
		return nil, err
	}
	return list.Compile(k, prefix)
}
