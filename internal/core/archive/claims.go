package archive

import (
	"fmt"
	"strconv"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sqltext"
)

// Dialect is how the SQL of the release is written.
func (a *Archive) Dialect() *sqltext.Dialect { return sqltext.DialectOf(a.Manifest.Database.Engine) }

// Definitions reads what schema.sql and after.sql define, every statement parsed to its last token. Whoever loads the
// release makes what is written from them; the scripts themselves are for people. Errors: ErrHostile.
func (a *Archive) Definitions() (*sqltext.Definitions, error) {
	d := &sqltext.Definitions{Dialect: a.Dialect()}
	for _, name := range []string{SchemaName, AfterName} {
		text, err := a.Schema(name)
		if err != nil {
			return nil, err
		}
		if err := d.Read(text); err != nil {
			return nil, fmt.Errorf("%w: %s: %w", ErrHostile, name, err)
		}
	}
	return d, nil
}

// JudgeSQL reads the definitions of an archive that came from outside. Views, triggers and routines that change rows are programs; they are
// refused unless trusted says that the archive is one's own. Errors: ErrHostile.
func (a *Archive) JudgeSQL(trusted bool) error {
	d, err := a.Definitions()
	if err != nil {
		return err
	}
	for _, g := range d.Programs {
		if !g.Passive() && !trusted {
			return fmt.Errorf("%w: the %s is a program, not a table; import the archive as trusted if it is your own", ErrHostile, g)
		}
	}
	return nil
}

// checkManifest compares what the manifest says with what is in the archive: what it claims does not decide how much memory
// is taken. Errors: ErrHostile.
func (a *Archive) checkManifest() error {
	m := &a.Manifest
	if m.Settings != "" && CheckName(m.Settings) != nil {
		return fmt.Errorf("%w: the manifest names the settings file %q, which is not below the web root", ErrHostile, m.Settings)
	}
	if len(m.Origin.Also) > MostAddresses {
		return fmt.Errorf("%w: the manifest names %d addresses of the site, more than any has", ErrHostile, len(m.Origin.Also)+1)
	}
	if err := checkSubSites(m.Origin.SubSites); err != nil {
		return err
	}
	entries := 0
	seen := map[string]bool{}
	for _, t := range m.Tables {
		if t.Name == "" || t.Entries < 0 || t.Rows < 0 || t.Bytes < 0 || seen[t.Name] {
			return fmt.Errorf("%w: what the manifest says of table %q cannot be", ErrHostile, t.Name)
		}
		seen[t.Name] = true
		if entries += min(t.Entries, len(a.byName)+1); entries > len(a.byName) || t.Entries > 0 &&
			a.byName[RowsName(t.Name, t.Entries-1)] == nil {
			return fmt.Errorf("%w: the manifest says that table %s has %d entries of rows, and the archive has %d entries in all", ErrHostile,
				t.Name, t.Entries, len(a.byName))
		}
	}
	const most = 1 << 50
	for _, n := range []int64{m.Totals.Files, m.Totals.Folders, m.Totals.Links, m.Totals.Bytes, m.Totals.Tables, m.Totals.Rows,
		m.Totals.SQLByte} {
		if n < 0 || n > most {
			return fmt.Errorf("%w: the totals of the manifest cannot be", ErrHostile)
		}
	}
	return nil
}

// checkSubSites judges what a manifest says of a network. Errors: ErrHostile.
func checkSubSites(all []kind.SubSite) error {
	if len(all) > MostSubSites {
		return fmt.Errorf("%w: the manifest names %d sub-sites, more than can be", ErrHostile, len(all))
	}
	main := 0
	seen := map[string]bool{}
	for _, s := range all {
		if n, err := strconv.ParseUint(s.ID, 10, 31); err != nil || strconv.FormatUint(n, 10) != s.ID || n == 0 || seen[s.ID] {
			return fmt.Errorf("%w: the manifest names the sub-site %q, which is no number of one", ErrHostile, s.ID)
		}
		if seen[s.ID] = true; s.Main {
			main++
		}
	}
	if len(all) > 0 && main != 1 {
		return fmt.Errorf("%w: the manifest names %d main sub-sites", ErrHostile, main)
	}
	return nil
}

// CheckKind compares the manifest with what sites of the kind have: the name of the settings file, and fields that lead to
// places that the kind knows. Errors: ErrHostile.
func (a *Archive) CheckKind(k *kind.Kind) error {
	m := &a.Manifest
	if len(m.Origin.SubSites) > 0 && !k.Network.Can() {
		return fmt.Errorf("%w: the manifest names sub-sites, and %s has none", ErrHostile, k.Title)
	}
	if m.Settings != "" && !k.IsSettings(m.Settings) {
		return fmt.Errorf("%w: the manifest names the settings file %q, and %s has none of that name", ErrHostile, m.Settings, k.Title)
	}
	if m.List == nil {
		return fmt.Errorf("%w: the manifest has no packing list", ErrHostile)
	}
	text, err := m.List.Text()
	if err != nil {
		return fmt.Errorf("%w: the packing list of the manifest: %w", ErrHostile, err)
	}
	list, err := packing.Parse(text)
	if err == nil {
		_, err = list.Compile(k, m.Origin.Prefix)
	}
	if err != nil {
		return fmt.Errorf("%w: the packing list of the manifest: %w", ErrHostile, err)
	}
	return nil
}
