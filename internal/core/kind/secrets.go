package kind

import (
	"bytes"
	"regexp"
	"strings"
)

// secretName is what names of settings have whose values are secret.
var secretName = regexp.MustCompile(`(?i)licen[cs]e|passw|passphrase|secret|token|credential|api[_-]?key|private[_-]?key|(^|[_-])(pass|key|salt)$`)

// SecretName reports whether a setting's value is secret, by its name.
func SecretName(name string) bool { return secretName.MatchString(name) }

// Secret is a value of a site that must not leave it, and the part of it to search for.
type Secret struct {
	Name   string
	Needle []byte
}

// Secrets returns the database password, keys and salts that the settings file holds.
func (id *Identity) Secrets() []Secret {
	if id.Settings == nil {
		return nil
	}
	var out []Secret
	for _, name := range append([]string{id.Kind.Settings.Database.Password}, id.Kind.Settings.Salts...) {
		v, _ := id.Settings.Get(name)
		if n := longestPlain(v); len(n) >= 6 {
			out = append(out, Secret{name, []byte(n)})
		}
	}
	return out
}

// longestPlain returns the longest run of characters that no quoting changes.
func longestPlain(v string) string {
	var best string
	for run := range strings.FieldsFuncSeq(v, func(r rune) bool { return strings.ContainsRune("'\"\\\n\r\x00<>&/%", r) }) {
		if len(run) > len(best) {
			best = run
		}
	}
	return best
}

// HoldsSecret reports whether text has one of the secrets in it, and which.
func HoldsSecret(secrets []Secret, text []byte) (name string, found bool) {
	for _, s := range secrets {
		if bytes.Contains(text, s.Needle) {
			return s.Name, true
		}
	}
	return "", false
}
