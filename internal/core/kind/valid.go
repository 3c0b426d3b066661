package kind

import (
	"fmt"
	"regexp"
	"slices"

	"nestseed/internal/core/glob"
)

var kindName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// valid says what is wrong with a definition, and prepares what is looked for.
func (k *Kind) valid() error {
	switch {
	case !kindName.MatchString(k.Name):
		return fmt.Errorf("name: %q is not one; use small letters, digits and dashes", k.Name)
	case len(k.Detect) == 0:
		return fmt.Errorf("detect: name at least one file that sites of the kind have, and others do not")
	case syntaxes[k.Settings.Syntax] == nil:
		return fmt.Errorf("settings.syntax: %q is not read; it is php, dotenv, ini, json or yaml", k.Settings.Syntax)
	case len(k.Settings.Files) == 0 && !k.Settings.Database.None():
		return fmt.Errorf("settings.files: the database is told by settings, and no file is named that has them")
	}
	if d := k.Settings.Database; !d.None() && d.Engine == "" && len(d.Drivers) == 0 {
		return fmt.Errorf("settings.database: name its engine, or the driver setting that tells it with the drivers by engine")
	}
	for what, v := range map[string]Value{"site-title": k.SiteTitle, "site-email": k.SiteEmail, "visibility": k.Visibility.Place()} {
		if v.IsZero() {
			continue
		}
		if err := k.validPlace(v); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
	}
	for _, v := range k.Address {
		if err := k.validPlace(v); err != nil {
			return fmt.Errorf("address: %w", err)
		}
	}
	for what, p := range map[string]*Place{"version": &k.Version, "runtime": &k.Runtime.Place} {
		if p.Pattern == "" {
			continue
		}
		found, err := regexp.Compile(p.Pattern)
		if err != nil {
			return fmt.Errorf("%s.pattern: %w", what, err)
		}
		p.found = found
	}
	for _, a := range k.Areas {
		for _, m := range a.Match {
			if err := glob.Validate(m); err != nil {
				return fmt.Errorf("area %s: %w", a.Area, err)
			}
		}
	}
	if err := k.Tenants.valid(); err != nil {
		return err
	}
	if err := k.Hold.valid(); err != nil {
		return err
	}
	if err := k.Report.fill(); err != nil {
		return err
	}
	if err := k.Media.valid(); err != nil {
		return err
	}
	for _, row := range k.Admin.Rows {
		if row.Table == "" || len(row.Values) == 0 {
			return fmt.Errorf("administrator.rows: each names a table and values")
		}
	}
	if err := k.Admin.validHashes(); err != nil {
		return err
	}
	for _, area := range slices.Concat(k.Code.Whole, k.Code.ByFolder) {
		if !slices.ContainsFunc(k.Areas, func(a Area) bool { return a.Area == area }) {
			return fmt.Errorf("code: there is no area %q", area)
		}
	}
	return nil
}

func (k *Kind) validPlace(v Value) error {
	if err := v.valid(); err != nil {
		return err
	}
	if v.Option != "" && k.Options.Table == "" {
		return fmt.Errorf("%s: the definition names no table of options", v)
	}
	return nil
}
