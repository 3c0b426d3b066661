package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"regexp"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
)

// writeSettings gives the prepared site its settings file.
func (mk *maker) writeSettings(ctx context.Context) error {
	name := mk.req.Archive.Manifest.Settings
	if name == "" {
		return mk.hold(ctx)
	}
	text, err := hostfs.ReadFile(ctx, mk.stage, name, 1<<20)
	if err != nil {
		return err
	}
	e, err := mk.stage.Stat(ctx, name)
	if err != nil {
		return err
	}
	ks := mk.req.Kind.Settings
	read, err := mk.req.Kind.ReadSettings(ctx, text, mk.stage, mk.plan.Folder, name)
	if err != nil {
		return err
	}
	s := &noted{read, map[string]string{}}
	if !ks.Database.None() {
		ks.Database.Write(s, mk.access())
	}
	if ks.Prefix != "" {
		s.Set(ks.Prefix, mk.plan.Prefix)
	}
	mk.shareSettings(s)
	if mk.req.Refresh != nil { // everything else in it is the site's
		if m := mk.req.Kind.Mail; m.Setting != "" {
			now, err := s.Get(m.Setting)
			mk.result.Quiet = err == nil && now == m.Kept
		}
		return errors.Join(writeSettings(ctx, mk.stage, name, mk.plan.Folder, s, e.Mode.Perm()), mk.hasSet(ctx, name, s.set), mk.hold(ctx))
	}
	for _, salt := range ks.Salts {
		s.Set(salt, Password(64))
	}
	for _, p := range ks.Folders {
		if s.Has(p.Setting) {
			s.Set(p.Setting, path.Join(mk.plan.Folder, p.Folder))
		}
	}
	if err := mk.setSettings(s); err != nil {
		return err
	}
	if err := writeSettings(ctx, mk.stage, name, mk.plan.Folder, s, e.Mode.Perm()&^0o007|0o600); err != nil {
		return err
	}
	return errors.Join(mk.hasSet(ctx, name, s.set), mk.hold(ctx))
}

// noted is settings of which it is known what they were set to.
type noted struct {
	kind.Settings
	set map[string]string
}

// Set implements kind.Settings.
func (n *noted) Set(name, value string) {
	n.Settings.Set(name, value)
	n.set[name] = value
}

// hasSet reads the settings file of the prepared site and sees that it has what was set.
func (mk *maker) hasSet(ctx context.Context, name string, set map[string]string) error {
	text, err := hostfs.ReadFile(ctx, mk.stage, name, 1<<20)
	if err != nil {
		return err
	}
	s, err := mk.req.Kind.ReadSettings(ctx, text, mk.stage, mk.plan.Folder, name)
	if err != nil {
		return err
	}
	for setting, want := range set {
		if got, err := s.Get(setting); err != nil || got != want {
			return fmt.Errorf("the settings file %s did not take the setting %s; see whether the kind names it as it is called there", name, setting)
		}
	}
	return nil
}

// setSettings puts fields, visibility, host names and whatever else belongs to a new site into its settings.
func (mk *maker) setSettings(s kind.Settings) error {
	ks := mk.req.Kind.Settings
	for _, f := range mk.req.Archive.Manifest.List.Fields {
		for _, t := range f.To {
			if t.Setting == "" {
				continue
			}
			value, give, err := mk.valueOf(f, t)
			if err != nil {
				return fmt.Errorf("field %s: %w", f.Key, err)
			}
			if give {
				s.Set(t.Setting, value)
			}
		}
	}
	if place, value := mk.visibility(); place.Setting != "" {
		s.Set(place.Setting, value)
	}
	if m := mk.req.Kind.Mail; m.Setting != "" {
		s.Set(m.Setting, map[bool]string{true: m.Kept, false: m.Sends}[mk.req.Quiet])
		mk.result.Quiet = mk.req.Quiet
	}
	if u, err := url.Parse(mk.plan.Address); err == nil && ks.Hosts != "" {
		for _, name := range s.Names() {
			if strings.HasPrefix(name, ks.Hosts+"[") || strings.HasPrefix(name, ks.Hosts+".") {
				s.Set(name, "^"+regexp.QuoteMeta(u.Hostname())+"$")
			}
		}
	}
	a := mk.req.Kind.Admin.Settings
	if a.Hash == "" || mk.req.Admin != "" {
		return nil
	}
	of := kind.Account{Login: mk.plan.Admin, Password: mk.result.AdminPassword, Salt: kind.NewSalt()}
	hash, err := kind.Hash(mk.req.Kind.Admin.Scheme(mk.req.Archive.Manifest.Version), of)
	for setting, value := range map[string]string{a.Login: mk.plan.Admin, a.Email: mk.req.Values["email"].Value, a.Hash: hash,
		a.Salt: of.Salt} {
		if setting != "" {
			s.Set(setting, value)
		}
	}
	return err
}

// access is what the settings file is to say of the database.
func (mk *maker) access() kind.Access {
	name := mk.plan.Database
	if mk.plan.User == "" {
		d := mk.req.Kind.Settings.Database
		if name = d.File; mk.req.Shared != nil || d.Folder != "" { // a relative name begins at the code
			name = path.Join(mk.plan.Folder, name)
		}
	}
	return kind.Access{Engine: mk.req.Server.Scheme(), Name: name, User: mk.plan.User, Password: mk.result.UserPassword,
		Host: mk.req.Server.SiteAddress()}
}

// writeSettings writes a settings file and those that it takes settings from, which all hold what nobody else is to read. folder
// is where the site is to lie.
func writeSettings(ctx context.Context, site hostfs.FS, name, folder string, s kind.Settings, mode fs.FileMode) error {
	for file, text := range s.Files() {
		if rel, inside := strings.CutPrefix(file, folder+"/"); inside {
			if err := hostfs.WriteSecret(ctx, site, rel, text, mode); err != nil {
				return err
			}
		}
	}
	return hostfs.WriteSecret(ctx, site, name, s.Bytes(), mode)
}
