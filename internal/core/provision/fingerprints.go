package provision

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"path"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitevalue"
)

// Extensions tie themselves to the address or the folder they were set up at: caches, licences and guards against copies
// keep a fingerprint of it, which no replacing of addresses finds. Those in the options are found by making them, and
// become those of the new place; they are as long as before, so serialised values stay whole.

// fingerprint is a digest in hexadecimal figures.
type fingerprint struct {
	of    string // what it is one of
	fresh string // the same of the new place
}

// fingerprints are those that PHP programs make of where a site is: MD5 (RFC 1321), SHA-1 and SHA-256 (FIPS 180-4).
func fingerprints(rules rewrite.Rules) map[string]fingerprint {
	out := map[string]fingerprint{}
	add := func(old, fresh string) {
		if old == fresh {
			return
		}
		for _, digest := range []func(string) string{
			func(s string) string { d := md5.Sum([]byte(s)); return hex.EncodeToString(d[:]) },
			func(s string) string { d := sha1.Sum([]byte(s)); return hex.EncodeToString(d[:]) },
			func(s string) string { d := sha256.Sum256([]byte(s)); return hex.EncodeToString(d[:]) },
		} {
			out[digest(old)] = fingerprint{old, digest(fresh)}
		}
	}
	for _, p := range rules.Addresses {
		old, err := rewrite.ParseAddress(p.Old)
		if err != nil {
			continue
		}
		fresh, err := rewrite.ParseAddress(p.New)
		if err != nil {
			continue
		}
		for _, end := range []string{"", "/"} {
			add(old.String()+end, fresh.String()+end)
			add(old.Host+old.Path+end, fresh.Host+fresh.Path+end)
			add("//"+old.Host+old.Path+end, "//"+fresh.Host+fresh.Path+end)
		}
		add(old.Hostname(), fresh.Hostname())
	}
	for _, p := range rules.Paths {
		for _, end := range []string{"", "/"} {
			add(path.Clean(p.Old)+end, path.Clean(p.New)+end)
		}
	}
	return out
}

// replaceFingerprints puts the fingerprints of the new place in the place of those of the old one, and names what they were of.
func replaceFingerprints(value string, known map[string]fingerprint) (_ string, of []string) {
	var out strings.Builder
	for at := 0; at < len(value); {
		end := at
		for end < len(value) && hexFigure(value[end]) {
			end++
		}
		if f, is := known[strings.ToLower(value[at:end])]; is {
			fresh := f.fresh
			if strings.ToUpper(value[at:end]) == value[at:end] {
				fresh = strings.ToUpper(fresh)
			}
			out.WriteString(fresh)
			of = append(of, f.of)
		} else {
			out.WriteString(value[at:end])
		}
		if at = end; at < len(value) {
			out.WriteByte(value[at])
			at++
		}
	}
	return out.String(), slices.Compact(of)
}

func hexFigure(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// renewFingerprints goes through the options of the site for fingerprints of where it came from.
func (mk *maker) renewFingerprints(ctx context.Context, site sitevalue.Site) error {
	known := fingerprints(mk.plan.Rules)
	fresh := map[string]string{}
	err := site.Options(ctx, mk.db, func(name string, old []byte) error {
		value, of := replaceFingerprints(string(old), known)
		if len(of) > 0 {
			fresh[name] = value
			mk.did("the option %s held a fingerprint of %s; it has that of the new place now", name, strings.Join(of, " and of "))
		}
		return nil
	})
	if err != nil {
		return err
	}
	for name, value := range fresh {
		if err := site.Set(ctx, mk.db, kind.Value{Option: name}, value); err != nil {
			return err
		}
	}
	return nil
}

// switchOffExtensions takes those that the packing list names off the lists of what is active.
func (mk *maker) switchOffExtensions(ctx context.Context, site sitevalue.Site) error {
	patterns := mk.req.Archive.Manifest.List.SwitchOff
	if len(patterns) == 0 {
		return nil
	}
	for _, parts := range mk.req.Kind.Extensions {
		for _, option := range parts.Active {
			raw, found, err := site.Option(ctx, option)
			if err != nil {
				return err
			}
			fresh, off := without([]byte(raw), patterns)
			if !found || len(off) == 0 {
				continue
			}
			if err := site.Set(ctx, mk.db, kind.Value{Option: option}, string(fresh)); err != nil {
				return err
			}
			mk.did("the packing list has %s switched off: %s; switch it on again on the site when it is wanted", parts.What, strings.Join(off, ", "))
		}
	}
	return nil
}

// without takes out of a list of active extensions (folder/file, or file) those whose folder or file a pattern names. What
// is no list is left as it is.
func without(raw []byte, patterns []string) (fresh []byte, off []string) {
	members, err := phpval.Members(raw)
	if err != nil {
		return raw, nil
	}
	kept := members[:0]
	for _, m := range members {
		file, err := phpval.Lookup(m.Value)
		name, _, _ := strings.Cut(file, "/")
		if err == nil && slices.ContainsFunc(patterns, func(p string) bool { return packing.Wild(p, name) }) {
			off = append(off, name)
			continue
		}
		if m.Int {
			m.Key = strconv.Itoa(len(kept))
		}
		kept = append(kept, m)
	}
	return phpval.AppendArray(nil, kept), off
}
