package kind

import (
	"bytes"
	"encoding/binary"
	"regexp"
	"slices"
	"strings"
)

// secretName is what names of settings have whose values are secret.
var secretName = regexp.MustCompile(`(?i)licen[cs]e|passw|passphrase|secret|token|credential|api[_-]?key|private[_-]?key|(^|[_-])(pass|key|salt)$`)

// SecretName reports whether a setting's value is secret, by its name.
func SecretName(name string) bool { return secretName.MatchString(name) }

// secretShape is how keys of well-known services look, and long random texts.
var secretShape = regexp.MustCompile(`^(?:[sprw]k_(?:live|test)_\w{16,}|AKIA[0-9A-Z]{16}|gh[pousr]_\w{20,}|xox[abprs]-[\w-]{10,}|AIza[\w-]{35}|SG\.[\w-]{16,}\.[\w-]{16,}|` +
	`key-[0-9a-f]{32}|eyJ[\w-]{10,}\.[\w-]{10,}\.[\w-]{10,}|[0-9a-f]{32,128}|-----BEGIN [A-Z ]*PRIVATE KEY-----[\s\S]*)$`)

// SecretShape reports whether a value looks like a key or token, whatever its name.
func SecretShape(value string) bool { return secretShape.MatchString(value) }

// Secret is a value of a site that must not leave it, and the part of it to search for.
type Secret struct {
	Name   string
	Needle []byte
}

// Secrets returns the database password, keys and salts that the settings file holds, and what AddSecret has added.
func (id *Identity) Secrets() []Secret {
	out := slices.Clone(id.secrets)
	if id.Settings == nil {
		return out
	}
	for _, name := range append([]string{id.Kind.Settings.Database.Password}, id.Kind.Settings.Salts...) {
		v, _ := id.Settings.Get(name)
		if n := longestPlain(v); len(n) >= 6 {
			out = append(out, Secret{name, []byte(n)})
		}
	}
	return out
}

// GivenPassword is the name of the password that was given with the address of a source's database.
const GivenPassword = "database password"

// AddSecret adds a value that must not leave the site and that its settings file does not tell.
func (id *Identity) AddSecret(name, value string) {
	if n := longestPlain(value); len(n) >= 6 {
		id.secrets = append(id.secrets, Secret{name, []byte(n)})
	}
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

// Search finds secrets in much text. Secrets are long and look random, so it suffices to look at eight bytes every
// so often: wherever a secret stands, one of these looks falls within it.
type Search struct {
	secrets []Secret
	stride  int
	maybe   [1 << 13]bool // by gramHash: some secret may have such eight bytes
	grams   map[uint64]struct{}
}

const gram = 8

// gramHash spreads eight bytes over the table (Fibonacci hashing).
func gramHash(g uint64) uint64 { return g * 0x9e3779b97f4a7c15 >> (64 - 13) }

// NewSearch prepares to look for secrets.
func NewSearch(secrets []Secret) *Search {
	s := &Search{secrets: secrets, grams: map[uint64]struct{}{}}
	if len(secrets) == 0 {
		return s
	}
	shortest := len(secrets[0].Needle)
	for _, x := range secrets {
		shortest = min(shortest, len(x.Needle))
	}
	if s.stride = shortest - gram + 1; s.stride < 1 {
		return s // one is too short to be looked for by grams
	}
	for _, x := range secrets {
		for i := 0; i+gram <= len(x.Needle); i++ {
			g := binary.LittleEndian.Uint64(x.Needle[i:])
			s.maybe[gramHash(g)], s.grams[g] = true, struct{}{}
		}
	}
	return s
}

// In reports whether text has one of the secrets in it, and which.
func (s *Search) In(text []byte) (name string, found bool) {
	if len(s.secrets) == 0 || s.stride >= 1 && !s.suspects(text) {
		return "", false
	}
	for _, x := range s.secrets {
		if bytes.Contains(text, x.Needle) {
			return x.Name, true
		}
	}
	return "", false
}

// suspects reports whether eight bytes somewhere are those of a secret.
func (s *Search) suspects(text []byte) bool {
	for i := 0; i+gram <= len(text); i += s.stride {
		g := binary.LittleEndian.Uint64(text[i:])
		if s.maybe[gramHash(g)] {
			if _, same := s.grams[g]; same {
				return true
			}
		}
	}
	return false
}
