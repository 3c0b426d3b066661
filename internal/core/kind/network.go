package kind

import (
	"regexp"
	"slices"
	"strings"
)

// Network says how a site of the kind can be a network: several sites, its sub-sites, in one folder and one database. Table names are
// without the prefix; {id} is the number of a sub-site.
type Network struct {
	On     string `yaml:"on"`   // the setting that says that it is one
	Main   string `yaml:"main"` // the setting with the number of the sub-site whose tables have none in their names
	Host   string `yaml:"host"` // settings with the host, and the path, of the main one's address
	Path   string `yaml:"path"`
	Number string `yaml:"number"` // what stands before the names of a sub-site's own tables: "{id}_"
	Sites  struct {
		Table string `yaml:"table"`
		ID    string `yaml:"id"`
		Host  string `yaml:"host"`
		Path  string `yaml:"path"`
		// Public is a column that says, beside the site's own option, whether search engines are let in: "1" or "0".
		Public string `yaml:"public"`
	} `yaml:"sites"`
	Shared []string `yaml:"shared"` // tables that are for all of them; all others belong to one each
	Only   []string `yaml:"only"`   // those of them that a site of its own has not
	// Rows are what an administrator has of a network, besides what one of a site has. A row whose column By has the value already
	// is changed. {login:php} is the name as PHP writes it into serialised values.
	Rows []struct {
		NewRow `yaml:",inline"`
		By     string `yaml:"by"`
	} `yaml:"administrator"`
	// Alone is what a sub-site is told to be a site of its own: options and settings that it gets.
	Alone struct {
		Settings map[string]string `yaml:"settings"`
		Options  map[string]string `yaml:"options"`
		// Member is the key of the rows, in the column of a table, by which an account belongs to a sub-site.
		Member struct {
			Rows    `yaml:",inline"`
			Account Column `yaml:"account"` // that the rows of an account are named by
			By      string `yaml:"by"`      // the column of the rows that names it
		} `yaml:"member"`
		// Everywhere is a value that names extensions which all sub-sites have active, by keys; a site of its own has them in Active.
		Everywhere Spot   `yaml:"everywhere"`
		Active     string `yaml:"active"`
	} `yaml:"alone"`
	// Media is the folder that the uploads of all sub-sites but the main one are in, and Own that of one.
	Media struct {
		Folder string `yaml:"folder"`
		Own    string `yaml:"own"`
	} `yaml:"media"`
}

// SubSite is one of the sites of a network.
type SubSite struct {
	ID      string `json:"id"` // a whole number
	Main    bool   `json:"main,omitempty"`
	Address string `json:"address"`
	Title   string `json:"title,omitempty"`
}

// Can reports whether sites of the kind can be networks.
func (n Network) Can() bool { return n.On != "" }

// isShared reports whether a table, without prefix, is for all sub-sites.
func (n Network) isShared(table string) bool { return slices.Contains(n.Shared, table) }

// Before is what stands before the names of a sub-site's own tables, after the prefix.
func (n Network) Before(id string) string { return strings.ReplaceAll(n.Number, "{id}", id) }

// IsNetwork reports whether a site is a network.
func (id *Identity) IsNetwork() bool {
	on := id.Kind.Network.On
	if on == "" || id.Settings == nil {
		return false
	}
	v, err := id.Settings.Get(on)
	return err == nil && v != "" && v != "0" && !strings.EqualFold(v, "false")
}

// OfNetwork returns the kind as it is for a network with these sub-sites: what it says of a table that each of them has, it says of each
// of those tables. Without sub-sites it is the kind itself.
func (k *Kind) OfNetwork(all []SubSite) *Kind {
	k = k.Single()
	if len(all) == 0 || !k.Network.Can() {
		return k
	}
	of := *k
	of.single = k
	of.Subs, of.Lists = nil, map[string]string{}
	for _, s := range all {
		if !s.Main {
			of.Subs = append(of.Subs, k.Network.Before(s.ID))
		}
	}
	for name, text := range k.listTexts {
		of.Lists[name] = forNetworks.ReplaceAllString(text, "$1")
	}
	rows := func(all []Rows) []Rows {
		return eachSub(&of, all, func(r Rows) string { return r.Table }, func(r Rows, sub string) Rows {
			r.Table = sub + r.Table
			return r
		})
	}
	columns := func(all []Column) []Column {
		return eachSub(&of, all, func(c Column) string { return c.Table }, func(c Column, sub string) Column {
			c.Table = sub + c.Table
			return c
		})
	}
	of.Forget = rows(k.Forget)
	of.Prefixed = eachSub(&of, k.Prefixed, func(r Rows) string { return r.Table }, func(r Rows, sub string) Rows {
		r.Table, r.Values = sub+r.Table, slices.Clone(r.Values)
		for i := range r.Values {
			r.Values[i] = sub + r.Values[i]
		}
		return r
	})
	of.Admin.Authors, of.Counted = columns(k.Admin.Authors), columns(k.Counted)
	of.Relations = eachSub(&of, k.Relations, func(r Relation) string { return r.Table }, func(r Relation, sub string) Relation {
		if r.Table = sub + r.Table; !k.Network.isShared(r.To.Table) {
			r.To.Table = sub + r.To.Table
		}
		return r
	})
	of.Clutter = eachSub(&of, k.Clutter, func(c Clutter) string {
		if c.Rows == nil {
			return ""
		}
		return c.Rows.Table
	}, func(c Clutter, sub string) Clutter {
		r := *c.Rows
		r.Table = sub + r.Table
		c.Rows = &r
		return c
	})
	of.Keep, of.Matched, of.Recount = nil, nil, nil // numbers of sub-sites are not the same in two networks
	return &of
}

// Single returns the kind as it is for a site that is no network.
func (k *Kind) Single() *Kind {
	if k.single == nil {
		return k
	}
	return k.single
}

// eachSub adds to rules about tables those about the same tables of sub-sites.
func eachSub[R any](k *Kind, rules []R, table func(R) string, of func(rule R, sub string) R) []R {
	out := slices.Clone(rules)
	for _, r := range rules {
		if t := table(r); t != "" && !k.Network.isShared(t) {
			for _, sub := range k.Subs {
				out = append(out, of(r, sub))
			}
		}
	}
	return out
}

// OfSubs returns a rule about a table, without prefix, and those about the same table of sub-sites.
func (k *Kind) OfSubs(table string) []string {
	out := []string{table}
	if k.Network.isShared(table) || strings.ContainsAny(table, "*?") {
		return out
	}
	for _, sub := range k.Subs {
		out = append(out, sub+table)
	}
	return out
}

// IsOptions reports whether a table, without prefix, holds the options of a site, or of one of its sub-sites.
func (k *Kind) IsOptions(table string) bool {
	return k.Options.Table != "" && slices.Contains(k.OfSubs(k.Options.Table), table)
}

// forNetworks is how lines of stock lists begin that are for networks only.
var forNetworks = regexp.MustCompile(`(?m)^( *)#network `)

// withoutNetworks leaves out of a stock list the lines that are for networks only.
func withoutNetworks(list string) string {
	var out strings.Builder
	for line := range strings.Lines(list) {
		if !forNetworks.MatchString(line) {
			out.WriteString(line)
		}
	}
	return out.String()
}
