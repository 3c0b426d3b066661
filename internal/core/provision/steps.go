package provision

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
)

func (p *Plan) steps(req Request, m *archive.Manifest) {
	origins := map[string]int{}
	for _, v := range p.Values {
		if v.Origin != "" {
			origins[v.Origin]++
		}
	}
	var parts []string
	for _, o := range slices.Sorted(maps.Keys(origins)) {
		parts = append(parts, fmt.Sprintf("%d from the %s", origins[o], strings.TrimPrefix(o, "the ")))
	}
	if len(p.Missing) > 0 {
		parts = append(parts, fmt.Sprintf("%d missing", len(p.Missing)))
	}
	old, _ := url.Parse(m.Origin.Address)
	fresh, _ := url.Parse(p.Address)
	visible := "kept from search engines"
	if p.Visible {
		visible = "open to search engines"
	}
	if req.Kind.Visibility.Place().IsZero() {
		visible = "open to search engines: " + req.Kind.Title + " has no setting that keeps them out"
	}
	switch {
	case req.Quiet && req.Kind.Mail.Can():
		visible += "; mail is kept from going out"
	case req.Quiet:
		visible += "; nothing keeps its mail from going out: " + req.Kind.Title + " has no setting for that here"
	}
	mail := "mail addresses stay"
	if p.Rules.Mail {
		mail = "mail addresses at " + old.Hostname() + " change too"
	}
	adapts := "caches and what else is rebuilt by itself are left out"
	if req.Kind.Jobs.Option != "" {
		adapts += ", jobs that are due are rescheduled"
	}
	if req.Kind.Options.Table != "" {
		adapts += "; fingerprints of the old address become those of the new one"
	}
	if off := m.List.SwitchOff; len(off) > 0 {
		adapts += "; switched off: " + strings.Join(off, ", ")
	}
	p.Steps = []Step{
		{"Check the host", p.hostSays(), ""},
		p.databaseStep(),
		{"Place files", "beside " + p.Folder + ", then swapped in", fmt.Sprintf("%d files", p.Files)},
		{"Load rows", p.tablesText(), fmt.Sprintf("%d rows", p.Rows)},
		{"Replace the address", old.Host + old.Path + p.alsoText() + " → " + fresh.Host + fresh.Path +
			", in rows and text files, inside serialised values too; " + mail, ""},
		{fmt.Sprintf("Set %d values", len(p.Values)), strings.Join(parts, ", "), ""},
		{"Write the settings file", p.secretsText(req.Kind), ""},
		p.administratorStep(visible),
		{"Adapt to the new address", adapts, ""},
		{"Swap in and check", "pages, links, images, leftovers of the old address, login", ""},
	}
	p.Steps = slices.Insert(p.Steps, 5, p.subSitesStep()...)
	p.Steps = slices.Insert(p.Steps, 3, p.sharingStep(req)...)
	if req.Kind.Settings.Database.None() {
		p.Steps = slices.DeleteFunc(p.Steps, func(s Step) bool { return s.Title == "Load rows" })
	}
	if req.Replace != nil {
		keeps := "nothing of it is taken over"
		if len(p.Keeps) > 0 {
			keeps = "taken over: " + strings.Join(p.Keeps, ", ") +
				"; visitors are told meanwhile that the site is being worked on, so that nothing " +
				"they write is lost"
		}
		p.Steps = slices.Insert(p.Steps, len(p.Steps)-1,
			Step{"Replace what is there", p.Replaces + " stay as a safety copy, to be put back with site undo; " + keeps, ""})
	}
}

// secretsText says which secrets in the settings file are new.
func (p *Plan) secretsText(k *kind.Kind) string {
	var parts []string
	switch n := len(k.Settings.Salts); n {
	case 0:
	case 1:
		parts = append(parts, "a new key")
	default:
		parts = append(parts, fmt.Sprintf("%d new keys and salts", n))
	}
	if p.User != "" && !p.Given {
		parts = append(parts, "new database password")
	}
	if len(parts) == 0 {
		return "the site's own values"
	}
	return strings.Join(parts, ", ")
}

// databaseStep is the line about what is made for the rows.
func (p *Plan) databaseStep() Step {
	switch {
	case p.Given:
		return Step{"Take database " + p.Database, "which the host was given, with its account " + p.User + "; nothing is in it", ""}
	case p.User != "":
		return Step{"Make database " + p.Database, "and its own user " + p.User + ", with rights in this database only", ""}
	case p.Database != "":
		return Step{"Make database " + p.Database, "a file of the site, which only it can read", ""}
	}
	return Step{"No database", "the site keeps everything in its files", ""}
}

func (p *Plan) administratorStep(visible string) Step {
	if p.Admin == "" {
		return Step{"No administrator", "the kind says nothing of accounts; " + visible, ""}
	}
	return Step{"Make administrator " + p.Admin, "password generated, kept in the vault; " + visible, ""}
}

func (p *Plan) tablesText() string {
	if p.OldPrefix == p.Prefix {
		return fmt.Sprintf("in %d tables", p.Tables)
	}
	return fmt.Sprintf("in %d tables, prefix %s becomes %s", p.Tables, p.OldPrefix, p.Prefix)
}

// hostSays are the facts of the target in a line.
func (p *Plan) hostSays() string {
	says := p.Server
	if p.Runtime != "" {
		says += ", " + p.Runtime
	}
	return fmt.Sprintf("%s, %d GB free", says, p.FreeBytes>>30)
}
