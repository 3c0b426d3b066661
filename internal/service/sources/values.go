package sources

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/optval"
	"nestseed/internal/core/sitevalue"
)

// Value is a value of a source that a field could lead to: an option, a value inside one, or a setting.
type Value struct {
	Place  kind.Value
	Text   string // its beginning; "" where it is secret
	Inside int    // how many values are inside
	Secret bool
}

const (
	mostValues = 300
	mostText   = 160
)

// Values lists options and settings of a source whose name or text has the words, or, of one option, the values inside it. Secrets are
// named and not shown. More says that there are others. Errors: records.ErrNotFound.
func (svc *Sources) Values(ctx context.Context, name, option, words string) (values []Value, more bool, err error) {
	src, err := svc.DB.Source(ctx, name)
	if err != nil {
		return nil, false, err
	}
	_, open, err := svc.Open(ctx, src.ID)
	if err != nil {
		return nil, false, err
	}
	defer open.Close()
	list := &valueList{secrets: kind.NewSearch(open.Identity.Secrets()), words: strings.ToLower(strings.TrimSpace(words))}
	if option == "" && open.Identity.Settings != nil {
		for _, setting := range open.Identity.Settings.Names() {
			if text, err := open.Identity.Settings.Get(setting); err == nil && !open.Identity.Kind.Own(kind.Value{Setting: setting}) {
				list.add(Value{Place: kind.Value{Setting: setting}, Text: text})
			}
		}
	}
	site := sitevalue.Site{Kind: open.Identity.Kind, Prefix: open.Identity.Prefix}
	if open.DB == nil || site.Kind.Options.Table == "" {
		return list.values, list.more, nil
	}
	err = site.Options(ctx, open.DB, func(name string, value []byte) error {
		if option != "" && name != option || site.Kind.Own(kind.Value{Option: name}) {
			return nil
		}
		list.option(name, value, option != "")
		return nil
	})
	slices.SortStableFunc(list.values, func(a, b Value) int { return cmp.Compare(a.Place.Option, b.Place.Option) })
	return list.values, list.more, err
}

type valueList struct {
	secrets *kind.Search
	words   string
	values  []Value
	more    bool
}

// option adds an option, or the values inside it.
func (l *valueList) option(name string, raw []byte, inside bool) {
	n := 0
	optval.Each(raw, func(path []string, text string) {
		if len(path) == 0 {
			return
		}
		if n++; inside {
			l.add(Value{Place: kind.Value{Option: name, Path: slices.Clone(path)}, Text: text})
		}
	})
	if !inside || n == 0 {
		text := string(raw)
		if n > 0 {
			text = ""
		}
		l.add(Value{Place: kind.Value{Option: name}, Text: text, Inside: n})
	}
}

// add adds a value, where it has the words, without what is secret of it.
func (l *valueList) add(v Value) {
	_, known := l.secrets.In([]byte(v.Text))
	names := append([]string{v.Place.Setting, v.Place.Option}, v.Place.Path...)
	if v.Secret = v.Text != "" && (known || slices.ContainsFunc(names, kind.SecretName)); v.Secret {
		v.Text = ""
	}
	if l.words != "" && !strings.Contains(strings.ToLower(v.Place.String()+" "+v.Text), l.words) {
		return
	}
	if len(l.values) == mostValues {
		l.more = true
		return
	}
	if r := []rune(v.Text); len(r) > mostText {
		v.Text = string(r[:mostText]) + "…"
	}
	l.values = append(l.values, v)
}
