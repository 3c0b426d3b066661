// Package kinds is what the service does with kinds of CMS: those that come with the program, and those that people add.
//
// A definition holds programs that are placed on sites (to hold them, to keep their mail, to ask them), so that only an owner may add
// one.
package kinds

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// Kinds is the kinds that are known.
type Kinds struct {
	db     *records.DB
	engine *engine.Engine
	stock  []*kind.Kind

	mu     sync.Mutex
	parsed map[string]*kind.Kind // by the text of the definition
}

// New knows the kinds that come with the program, and those of the records.
func New(db *records.DB, e *engine.Engine) (*Kinds, error) {
	stock, err := kind.Stock()
	return &Kinds{db: db, engine: e, stock: stock, parsed: map[string]*kind.Kind{}}, err
}

// All returns all kinds by name, and those that were added before those that come with the program: where both fit a site, what
// somebody described counts.
func (s *Kinds) All(ctx context.Context) ([]*kind.Kind, error) {
	added, err := s.db.Kinds(ctx)
	if err != nil {
		return nil, err
	}
	var all []*kind.Kind
	for _, r := range added {
		k, err := s.parse(r.Definition)
		if err != nil { // an earlier version of the program knew something that this one does not
			slog.Warn("the definition of a kind cannot be read", "kind", r.Name, "error", err)
			continue
		}
		all = append(all, k)
	}
	return append(all, s.stock...), nil
}

func (s *Kinds) parse(text string) (*kind.Kind, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if k := s.parsed[text]; k != nil {
		return k, nil
	}
	k, err := Check([]byte(text))
	if err == nil {
		k.Described = true
		s.parsed[text] = k
	}
	return k, err
}

// Of returns the kind of the site that a release holds. Errors: kind.ErrUnknown.
func (s *Kinds) Of(ctx context.Context, m *archive.Manifest) (*kind.Kind, error) {
	k, err := s.Named(ctx, m.Kind)
	if err != nil {
		return nil, err
	}
	return m.KindOf(k), nil
}

// Named returns the kind with a name. Errors: kind.ErrUnknown.
func (s *Kinds) Named(ctx context.Context, name string) (*kind.Kind, error) {
	if k, err := kind.Named(s.stock, name); err == nil {
		return k, nil
	}
	all, err := s.All(ctx)
	if err != nil {
		return nil, err
	}
	return kind.Named(all, name)
}

// Among returns the kinds that a site may be of: the one with a name, or all where there is no name. Errors: kind.ErrUnknown.
func (s *Kinds) Among(ctx context.Context, name string) ([]*kind.Kind, error) {
	if name == "" {
		return s.All(ctx)
	}
	k, err := s.Named(ctx, name)
	return []*kind.Kind{k}, err
}

// Check reads a definition with its packing lists, and says what is wrong with it.
func Check(text []byte) (*kind.Kind, error) {
	k, err := kind.Parse(text)
	if err != nil {
		return nil, err
	}
	for name, list := range k.Lists {
		l, err := packing.Parse([]byte(list))
		if err == nil {
			_, err = l.Compile(k, "")
		}
		if err != nil {
			return nil, fmt.Errorf("definition of %s: packing list %s: %w", k.Name, name, err)
		}
	}
	if _, there := k.Lists["starter"]; !there {
		return nil, fmt.Errorf("definition of %s: lists: there is no packing list called starter, which starters begin with", k.Name)
	}
	if _, there := k.Lists["whole-site"]; !there {
		return nil, fmt.Errorf("definition of %s: lists: there is no packing list called whole-site, which safety copies are made by", k.Name)
	}
	return k, nil
}

// Add adds a kind, or replaces one that was added. Errors: input.ErrWrong.
func (s *Kinds) Add(ctx context.Context, text, who string) (*kind.Kind, error) {
	k, err := Check([]byte(text))
	if err != nil {
		return nil, input.Wrong(err)
	}
	if slices.ContainsFunc(s.stock, func(o *kind.Kind) bool { return o.Name == k.Name }) {
		return nil, input.Wrongf("%s comes with the program; give yours another name", k.Name)
	}
	return k, s.engine.WithLock(ctx, engine.Target("kind", k.Name), func(ctx context.Context) error {
		return s.db.PutKind(ctx, records.Kind{Name: k.Name, Definition: text, AddedBy: who})
	})
}

// Remove removes a kind that was added and that nothing is of. Errors: input.ErrWrong, records.ErrInUse, records.ErrNotFound.
func (s *Kinds) Remove(ctx context.Context, name string) error {
	if _, err := kind.Named(s.stock, name); err == nil {
		return input.Wrongf("%s comes with the program; it cannot be removed", name)
	}
	return s.engine.WithLock(ctx, engine.Target("kind", name), func(ctx context.Context) error { return s.db.RemoveKind(ctx, name) })
}

// Comes reports whether a kind comes with the program.
func (s *Kinds) Comes(name string) bool {
	_, err := kind.Named(s.stock, name)
	return err == nil
}
