package provision

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitevalue"
)

// SubSite is one of the sites of a network, with the address that it had and the one it will have.
type SubSite struct {
	ID      string `json:"id"`
	Main    bool   `json:"main,omitempty"`
	Title   string `json:"title,omitempty"`
	Was     string `json:"was"`
	Address string `json:"address"`
}

// subSites decides where the sites of a network will be: in the same folders of its address, or, where they have hosts of their own, before
// the new host as they stood before the old one. A host that did not stand so is written with dashes before it.
func (p *Plan) subSites(m *archive.Manifest) error {
	all := m.Origin.SubSites
	if len(all) == 0 {
		return nil
	}
	old, err := rewrite.ParseAddress(m.Origin.Address)
	if err != nil {
		return err
	}
	fresh, err := rewrite.ParseAddress(p.Address)
	if err != nil {
		return err
	}
	if old.Path != fresh.Path {
		p.Problems = append(p.Problems, fmt.Sprintf("a network of sites keeps the folder of its address in its rows, so it stays one with the "+
			"folder %q; choose an address with it", old.Path))
	}
	for _, s := range all {
		at := SubSite{ID: s.ID, Main: s.Main, Title: s.Title, Was: s.Address, Address: p.Address}
		if was, err := rewrite.ParseAddress(s.Address); err != nil {
			p.Problems = append(p.Problems, fmt.Sprintf("sub-site %s says that it is at %q, which is no address", s.ID, s.Address))
		} else if !s.Main {
			at.Address = underNew(was, old, fresh)
		}
		p.SubSites = append(p.SubSites, at)
	}
	return nil
}

// underNew returns where a sub-site will be.
func underNew(was, old, fresh *url.URL) string {
	to := *fresh
	to.Path = was.Path
	if was.Host == old.Host {
		return to.String()
	}
	before, stood := strings.CutSuffix(was.Hostname(), "."+strings.TrimPrefix(old.Hostname(), "www."))
	if !stood {
		before = strings.ReplaceAll(was.Hostname(), ".", "-")
	}
	to.Host = before + "." + strings.TrimPrefix(fresh.Host, "www.")
	return to.String()
}

// elsewhere are the addresses of sub-sites that have hosts of their own, with those they will have.
func (p *Plan) elsewhere(m *archive.Manifest) (out []rewrite.Pair) {
	old, err := rewrite.ParseAddress(m.Origin.Address)
	if err != nil {
		return nil
	}
	for _, s := range p.SubSites {
		if was, err := rewrite.ParseAddress(s.Was); err == nil && was.Host != old.Host {
			out = append(out, rewrite.Pair{Old: s.Was, New: s.Address})
		}
	}
	return out
}

// subSitesStep is the line about the sites of a network.
func (p *Plan) subSitesStep() []Step {
	if len(p.SubSites) == 0 {
		return nil
	}
	var at []string
	for _, s := range p.SubSites {
		if !s.Main && len(at) < 6 {
			at = append(at, strings.TrimPrefix(strings.TrimPrefix(s.Address, "https://"), "http://"))
		}
	}
	if more := len(p.SubSites) - 1 - len(at); more > 0 {
		at = append(at, fmt.Sprintf("and %d more", more))
	}
	return []Step{{"Make the sub-sites of the network",
		"the web server has to lead their addresses to this site too: " + strings.Join(at, ", "), fmt.Sprintf("%d sites", len(p.SubSites))}}
}

// eachSub does something with the main site of a network and with each of the others, or with a site that is none. site is where
// single values of it are kept.
func (mk *maker) eachSub(do func(site sitevalue.Site, address string) error) error {
	site := mk.site()
	if err := do(site, mk.plan.Address); err != nil {
		return err
	}
	n := mk.req.Kind.Network
	for _, s := range mk.plan.SubSites {
		if s.Main || !mk.hasTable(n.Before(s.ID)+mk.req.Kind.Options.Table) {
			continue
		}
		of := site
		of.Prefix += n.Before(s.ID)
		if err := do(of, s.Address); err != nil {
			return fmt.Errorf("sub-site %s: %w", s.Address, err)
		}
	}
	return nil
}

// mailOfSubSite gives a sub-site whose own mail address stayed behind that of the whole.
func (mk *maker) mailOfSubSite(ctx context.Context, site sitevalue.Site) error {
	place, mail := mk.req.Kind.SiteEmail, mk.req.Values["email"].Value
	if site.Prefix == mk.plan.Prefix || mail == "" || !place.InDatabase() {
		return nil
	}
	if was, found, err := site.Get(ctx, place); err != nil || !found || was != "" {
		return err
	}
	return site.Set(ctx, mk.db, place, mail)
}

// showSubSites says to the table of sub-sites whether search engines are let in.
func (mk *maker) showSubSites(ctx context.Context) error {
	sites := mk.req.Kind.Network.Sites
	if len(mk.plan.SubSites) == 0 || sites.Public == "" {
		return nil
	}
	return mk.db.SetColumn(ctx, mk.table(sites.Table), sites.Public, map[bool]string{true: "1", false: "0"}[mk.plan.Visible])
}

// networkRows gives a new administrator what one of a network has.
func (mk *maker) networkRows(ctx context.Context, fill *strings.Replacer) error {
	if len(mk.plan.SubSites) == 0 {
		return nil
	}
	for _, row := range mk.req.Kind.Network.Rows {
		values := map[string]string{}
		for column, value := range row.Values {
			values[column] = fill.Replace(value)
		}
		table, key := mk.table(row.Table), values[row.By]
		there := false
		for column, value := range values {
			was, found, err := mk.db.Lookup(ctx, table, row.By, key, column)
			if err != nil {
				return err
			}
			if there = found; !found {
				break
			}
			if err := mk.db.SetValue(ctx, table, row.By, key, column, joined(was, value)); err != nil {
				return err
			}
		}
		if there {
			continue
		}
		if _, err := mk.db.Insert(ctx, table, values); err != nil {
			return err
		}
	}
	return nil
}

// joined adds what is in a serialised list to one that is there. Any other value takes the place of what was there.
func joined(was, value string) string {
	old, err := phpval.Members([]byte(was))
	if err != nil {
		return value
	}
	more, err := phpval.Members([]byte(value))
	if err != nil {
		return value
	}
	has := map[string]bool{}
	for _, m := range old {
		has[string(m.Value)] = true
	}
	for _, m := range more {
		if !has[string(m.Value)] {
			m.Key = fmt.Sprint(len(old))
			old = append(old, m)
		}
	}
	return string(phpval.AppendArray(nil, old))
}
