package kind

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// namedSettings returns the settings that a definition names, but for those of the database, and those that it says need not be there.
func (k *Kind) namedSettings() (names []string) {
	names = append(names, k.Settings.Prefix, k.SiteTitle.Setting, k.SiteEmail.Setting, k.Visibility.Place().Setting, k.Mail.Setting,
		k.Admin.Settings.Login, k.Admin.Settings.Email, k.Admin.Settings.Hash, k.Admin.Settings.Salt)
	names = append(names, k.Settings.Salts...)
	for _, a := range k.Address {
		names = append(names, a.Setting)
	}
	return names
}

// Has says which of some settings a site has not: those that its kind names, and others that are given. Kinds that come with the
// program name what some versions have; what somebody has described has to be there, unless it is optional. A password written where
// nothing reads it, and one that stays where nobody looks, are the worst that a wrong name can do. Errors: ErrCannotRead.
func (id *Identity) Has(also ...string) error {
	if id.Settings == nil {
		return nil
	}
	if len(id.Settings.Names()) == 0 {
		return fmt.Errorf("%w: no setting can be read in its settings file %s; see whether it is of the syntax %s", ErrCannotRead,
			id.SettingsPath, id.Kind.Settings.Syntax)
	}
	if !id.Kind.Described {
		return nil
	}
	var missing []string
	for _, name := range append(id.Kind.namedSettings(), also...) {
		if name != "" && !id.Settings.Has(name) && !slices.Contains(id.Kind.Settings.Optional, name) && !slices.Contains(missing, name) {
			missing = append(missing, name)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	there := id.Settings.Names()
	return fmt.Errorf("%w: its settings file %s has no %s, which kind %s names; it has %s. Name settings as they are called there, or list "+
		"under settings.optional what not every site has", ErrCannotRead, id.SettingsPath, strings.Join(missing, ", "), id.Kind.Name,
		strings.Join(there[:min(len(there), 12)], ", "))
}

// readable says why a text is not of the syntax of settings that it should be of.
func readable(syntax string, src []byte) error {
	if syntax == "json" && !json.Valid(src) {
		return fmt.Errorf("%w: its settings file is not JSON (RFC 8259)", ErrCannotRead)
	}
	return nil
}
