package hosts

import (
	"cmp"
	"context"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostcheck"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// SplitPassword takes the password out of a database address; one given beside it counts more. Of several addresses, separated by
// spaces, each has its line in password. Errors: input.ErrWrong.
func SplitPassword(addresses, beside string) (without, password string, err error) {
	all := strings.Fields(addresses)
	passwords := make([]string, len(all))
	given := strings.Split(beside, "\n")
	for i, address := range all {
		u, err := url.Parse(address)
		if err != nil || u.Scheme == "" {
			return "", "", input.Wrongf("the database address cannot be read; write it like mysql://admin@127.0.0.1:3306/")
		}
		passwords[i], _ = u.User.Password()
		if i < len(given) && given[i] != "" {
			passwords[i] = given[i]
		}
		if u.User != nil {
			u.User = url.User(u.User.Username())
		}
		all[i] = u.String()
	}
	if len(all) == 0 {
		return "", "", input.Wrongf("say where the database server is, like mysql://admin@127.0.0.1:3306/")
	}
	return strings.Join(all, " "), strings.TrimRight(strings.Join(passwords, "\n"), "\n"), nil
}

// Add adds a host once it answers, so that a mistake shows when it is made. Its database address may hold the password, which
// goes into the vault. The key that it shows is the one that it must show from now on. Errors: input.ErrWrong, records.ErrTaken.
func (s *Hosts) Add(ctx context.Context, h records.Host, secrets Secrets) (records.Host, error) {
	var err error
	if h.Database, secrets.Database, err = SplitPassword(h.Database, secrets.Database); err != nil {
		return h, err
	}
	if err := noPassword(h.Files); err != nil {
		return h, err
	}
	fsys, err := s.answers(ctx, &h, secrets, true)
	if err != nil {
		return h, err
	}
	defer fsys.Close()
	err = s.Engine.WithLock(ctx, engine.Target("host", h.Name), func(ctx context.Context) error {
		return s.DB.Tx(ctx, func(ctx context.Context) (err error) {
			if h, err = s.DB.AddHost(ctx, h); err != nil {
				return err
			}
			return s.Vault.Keep(ctx, "host", h.Name, secrets.byName())
		})
	})
	if err == nil {
		h.Runtimes = s.firstAsked(ctx, h, fsys)
		h.Room = s.firstLooked(ctx, h, fsys)
	}
	return h, err
}

// noPassword refuses a password in the address of files: addresses are shown to everybody.
func noPassword(files string) error {
	if u, err := url.Parse(files); err == nil && u.User != nil {
		if _, there := u.User.Password(); there {
			return input.Wrongf("the address of the files holds a password; give it apart, where it goes into the vault")
		}
	}
	return nil
}

// Change is what becomes of a host; what is empty stays as it is.
type Change struct {
	Files, WebRoot, Address, Database string

	Secrets    Secrets
	NewHostKey bool    // take the key that it shows now
	Connect    *string // "" for where the name leads
}

// Change changes a host once what it would be answers and holds the sites that are on it: a mistake must not strand them.
// Errors: input.ErrWrong, records.ErrNotFound, engine.ErrBusy.
func (s *Hosts) Change(ctx context.Context, name string, to Change) (h records.Host, err error) {
	if err := noPassword(to.Files); err != nil {
		return h, err
	}
	err = s.Engine.WithLock(ctx, engine.Target("host", name), func(ctx context.Context) error {
		if h, err = s.DB.Host(ctx, name); err != nil {
			return err
		}
		first := to.NewHostKey || to.Files != "" && machine(to.Files) != machine(h.Files)
		if first {
			h.HostKey = ""
		}
		h.Files, h.WebRoot, h.Address = cmp.Or(to.Files, h.Files), cmp.Or(to.WebRoot, h.WebRoot), cmp.Or(to.Address, h.Address)
		if to.Connect != nil {
			h.Connect = *to.Connect
		}
		if h.Database, to.Secrets.Database, err = SplitPassword(cmp.Or(to.Database, h.Database), to.Secrets.Database); err != nil {
			return err
		}
		tried, err := s.tried(ctx, h.Name, to.Secrets)
		if err != nil {
			return err
		}
		fsys, err := s.answers(ctx, &h, tried, first)
		if err != nil {
			return err
		}
		defer fsys.Close()
		if err := s.holdsItsSites(ctx, h, fsys); err != nil {
			return err
		}
		return s.DB.Tx(ctx, func(ctx context.Context) error {
			if err := s.DB.ChangeHost(ctx, h); err != nil {
				return err
			}
			return s.Vault.Keep(ctx, "host", h.Name, to.Secrets.byName())
		})
	})
	if err != nil {
		return h, err
	}
	if fsys, err := s.Files(ctx, h); err == nil {
		defer fsys.Close()
		h.Runtimes = s.firstAsked(ctx, h, fsys)
		h.Room = s.firstLooked(ctx, h, fsys)
	}
	return h, nil
}

// machine is which machine an address of files is on.
func machine(files string) string {
	u, err := url.Parse(files)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host
}

// tried are the secrets of a host with those that are new.
func (s *Hosts) tried(ctx context.Context, host string, to Secrets) (_ Secrets, err error) {
	for name, secret := range map[string]*string{databaseSecret: &to.Database, filesSecret: &to.Files, keySecret: &to.Key} {
		if *secret == "" {
			if *secret, err = s.secret(ctx, host, name); err != nil {
				return to, err
			}
		}
	}
	return to, nil
}

func (s Secrets) byName() map[string]string {
	return map[string]string{databaseSecret: s.Database, filesSecret: s.Files, keySecret: s.Key}
}

// Remove removes a host that nothing uses, and its password. Errors: records.ErrInUse, records.ErrNotFound.
func (s *Hosts) Remove(ctx context.Context, name string) error {
	return s.Engine.WithLock(ctx, engine.Target("host", name), func(ctx context.Context) error {
		return s.DB.Tx(ctx, func(ctx context.Context) error {
			if err := s.DB.RemoveHost(ctx, name); err != nil {
				return err
			}
			return s.DB.RemoveSecrets(ctx, "host", name)
		})
	})
}

// answers opens a host's files and server once, and notes the key that it shows. The files are the caller's to close.
func (s *Hosts) answers(ctx context.Context, h *records.Host, secrets Secrets, first bool) (_ hostfs.FS, err error) {
	if !strings.Contains(h.WebRoot, "{name}") && !strings.Contains(h.WebRoot, "{host}") {
		return nil, input.Wrongf("web root %q has neither {name} nor {host}; every site needs a folder of its own, like {name}", h.WebRoot)
	}
	if _, err := rewrite.ParseAddress(strings.ReplaceAll(h.Address, "{name}", "x")); err != nil || !strings.Contains(h.Address, "{name}") {
		return nil, input.Wrongf("address %q should be a site's address with {name} in it, like https://{name}.preview.example", h.Address)
	}
	fsys, err := files(ctx, h, secrets, first)
	if err != nil {
		return nil, input.Wrong(err)
	}
	defer func() {
		if err != nil {
			fsys.Close()
		}
	}()
	addresses, err := withPasswords(h.Database, secrets.Database)
	if err != nil {
		return nil, input.Wrong(err)
	}
	for address := range strings.FieldsSeq(addresses) {
		if err = serverAnswers(ctx, fsys, address, s.PageOf(*h)); err != nil {
			return nil, input.Wrong(err)
		}
	}
	return fsys, nil
}

func serverAnswers(ctx context.Context, fsys hostfs.FS, address string, page Page) error {
	server, err := Database(fsys, address, page)
	if err != nil {
		return err
	}
	defer server.Close()
	_, err = server.Version(ctx)
	return err
}

// holdsItsSites says whether a host's files hold every site and source that the records place there.
func (s *Hosts) holdsItsSites(ctx context.Context, h records.Host, fsys hostfs.FS) error {
	holds := func(what, folder string) error {
		if _, err := fsys.Stat(ctx, folder); err != nil {
			return input.Wrongf("%s is not in the files at %s: %w; nothing was changed", what, h.Files, err)
		}
		return nil
	}
	sites, err := s.DB.Sites(ctx)
	if err != nil {
		return err
	}
	for _, site := range sites {
		if site.HostID == h.ID {
			if err := holds("site "+site.Name, site.Folder); err != nil {
				return err
			}
		}
	}
	sources, err := s.DB.Sources(ctx)
	if err != nil {
		return err
	}
	for _, src := range sources {
		if src.HostID == h.ID {
			if err := holds("source "+src.Name, src.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// firstAsked asks a new host what runs on it. When it does not tell, that is no reason to refuse it: plans say so.
func (s *Hosts) firstAsked(ctx context.Context, h records.Host, fsys hostfs.FS) []provision.Runtime {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	told, _ := s.AskRuntimes(ctx, h, fsys)
	return told
}

// Test is what a host showed when it was tried.
type Test struct {
	Steps    []check.Check
	Runtimes []provision.Runtime
	// Files is an address of the files with which the programs there find, or read, what is placed; "" where that of the host is right.
	Files string
}

// Test tries a host, step by step: its name, the way to its files, what can be done there, what runs there, and its database
// server. A step that fails ends those that need it. Errors: records.ErrNotFound, engine.ErrBusy.
func (s *Hosts) Test(ctx context.Context, name string) (out Test, err error) {
	err = s.Engine.WithLock(ctx, engine.Target("host", name), func(ctx context.Context) error {
		h, err := s.DB.Host(ctx, name)
		if err != nil {
			return err
		}
		if out, err = s.test(ctx, h); err != nil {
			return err
		}
		return s.lookAtRoom(ctx, h)
	})
	return out, err
}

func (s *Hosts) test(ctx context.Context, h records.Host) (out Test, err error) {
	out.Runtimes = []provision.Runtime{}
	if out.Steps = hostcheck.Name(ctx, h.Files); faulty(out.Steps) {
		return out, nil
	}
	fsys, err := s.Files(ctx, h)
	if err != nil {
		out.Steps = append(out.Steps, hostcheck.NotReached(h.Files, err))
		return out, nil
	}
	defer fsys.Close()
	in := "the files are reached at " + fsys.Root()
	if h.HostKey != "" {
		in += ", with the key that is known: " + hostfs.Fingerprint(h.HostKey)
	}
	out.Steps = append(out.Steps, check.Check{Name: "log-in", Result: check.Pass, Sentence: in})
	out.Steps = append(out.Steps, hostcheck.Files(ctx, fsys)...)
	if !faulty(out.Steps) {
		out.Runtimes, err = s.AskRuntimes(ctx, h, fsys)
		if err != nil {
			out.Runtimes = []provision.Runtime{}
			out.Steps = append(out.Steps, hostcheck.NotTold(err))
		}
		for _, r := range out.Runtimes {
			folder, err := Fill(h.WebRoot, asksName, strings.ReplaceAll(h.Address, "{name}", asksName))
			if err != nil {
				return out, err
			}
			out.Steps = append(out.Steps, hostcheck.Runtime(r, fsys, path.Join(fsys.Root(), folder))...)
			out.Files = cmp.Or(out.Files, betterFiles(h.Files, r, folder, os.Geteuid() == 0))
		}
	}
	address, err := s.WithPassword(ctx, h.Database, "host", h.Name)
	if err != nil {
		return out, err
	}
	given := map[string]bool{} // engines whose databases were tried together
	for a := range strings.FieldsSeq(address) {
		open := func() (sitedb.Server, error) { return Database(fsys, a, s.PageOf(h)) }
		if scheme, _, _ := strings.Cut(a, ":"); sitedb.IsGiven(a) {
			if given[scheme] {
				continue
			}
			given[scheme] = true
			open = func() (sitedb.Server, error) { return s.serverOf(fsys, address, scheme, s.PageOf(h)) }
		}
		server, err := open()
		if err != nil {
			out.Steps = append(out.Steps, check.Check{Name: "database", Result: check.Fail, Sentence: err.Error()})
			continue
		}
		out.Steps = append(out.Steps, hostcheck.Database(ctx, server)...)
		server.Close()
	}
	return out, nil
}

// betterFiles returns an address of files with what a runtime has told: what the programs there call the folder of the host, or, where the
// service may give files away, whose they are to be. folder is where they were asked, below that of the host.
func betterFiles(files string, r provision.Runtime, folder string, root bool) string {
	u, err := url.Parse(files)
	if err != nil {
		return ""
	}
	q := u.Query()
	seen, inside := strings.CutSuffix(r.Folder, "/"+folder)
	switch {
	case u.Scheme == "file" && root && r.Refuses() != "" && r.Account != "" && q.Get("owner") == "":
		q.Set("owner", r.Account)
	case u.Scheme != "file" && inside && seen != "" && seen != cmp.Or(q.Get("seen"), u.Path):
		q.Set("seen", seen)
	default:
		return ""
	}
	u.RawQuery = strings.ReplaceAll(q.Encode(), "%2F", "/")
	return u.String()
}

func faulty(steps []check.Check) bool {
	return slices.ContainsFunc(steps, func(c check.Check) bool { return c.Result == check.Fail })
}
