// Package hosts is what the service does with hosts: add, change and remove them, reach their files and database servers, find
// out what runs on them, and tell which addresses are theirs.
package hosts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"slices"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/parallel"
	"nestseed/internal/core/relay"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/vault"
)

// Hosts is the hosts of the records.
type Hosts struct {
	DB     *records.DB
	Vault  *vault.Vault
	Engine *engine.Engine
	Kinds  *kinds.Kinds
	// Scratch is a private folder for databases that are files, while they are worked on. It is emptied when the service starts.
	Scratch string
}

// Secrets are what a host is reached with.
type Secrets struct {
	Database string // password of the database account
	Files    string // password of the account that reaches the files, or the passphrase of Key
	Key      string // private key of that account
}

// names of secrets in the vault, as secrets of the noun "host".
const (
	databaseSecret = "database"
	filesSecret    = "files"
	keySecret      = "files-key"
)

// Files connects to a host's files. They are the caller's to close.
func (s *Hosts) Files(ctx context.Context, h records.Host) (hostfs.FS, error) {
	var secrets Secrets
	var err error
	if secrets.Files, err = s.secret(ctx, h.Name, filesSecret); err != nil {
		return nil, err
	}
	if secrets.Key, err = s.secret(ctx, h.Name, keySecret); err != nil {
		return nil, err
	}
	fsys, err := files(ctx, &h, secrets, false)
	if err != nil {
		return nil, fmt.Errorf("host %s: %w", h.Name, err)
	}
	return fsys, nil
}

func (s *Hosts) secret(ctx context.Context, host, name string) (string, error) {
	secret, err := s.Vault.Get(ctx, "host", host, name)
	if errors.Is(err, records.ErrNotFound) {
		return "", nil
	}
	return secret, err
}

// files connects to a host's files. With first, the key that the host shows is noted, and is the one that it must show from then on.
func files(ctx context.Context, h *records.Host, secrets Secrets, first bool) (hostfs.FS, error) {
	a := hostfs.Access{Address: h.Files, HostKey: h.HostKey, PrivateKey: secrets.Key}
	if secrets.Key == "" {
		a.Password = secrets.Files
	} else {
		a.Passphrase = secrets.Files
	}
	if first {
		a.Shown = func(key string) { h.HostKey = key }
	}
	return hostfs.Open(ctx, a)
}

// Open connects to a host's files and to its database server of an engine (see sitedb.EngineOf; "" is that of the first address that
// the host has). Both are the caller's to close. Errors: ErrNoServer.
func (s *Hosts) Open(ctx context.Context, h records.Host, engine string) (hostfs.FS, sitedb.Server, error) {
	fsys, err := s.Files(ctx, h)
	if err != nil {
		return nil, nil, err
	}
	address, err := s.WithPassword(ctx, h.Database, "host", h.Name)
	if err == nil {
		var server sitedb.Server
		if server, err = s.serverOf(fsys, address, engine, s.PageOf(h)); err == nil {
			return fsys, server, nil
		}
		err = fmt.Errorf("host %s: %w", h.Name, err)
	}
	fsys.Close()
	return nil, nil, err
}

// ErrNoServer says that a host has no database server of the engine that a site needs.
var ErrNoServer = errors.New("has no database server of this sort")

// serverOf connects to the server among a host's addresses that is of an engine.
func (s *Hosts) serverOf(fsys hostfs.FS, addresses, engine string, page Page) (sitedb.Server, error) {
	if engine == sitedb.None.Scheme() {
		return sitedb.None, nil
	}
	all := strings.Fields(addresses)
	if engine == "" && len(all) > 0 {
		engine, _, _ = strings.Cut(all[0], ":")
	}
	e, err := sitedb.EngineOf(engine)
	if err != nil {
		return nil, err
	}
	if e.InSite {
		return e.OnFiles(fsys, s.Scratch)
	}
	of := slices.DeleteFunc(all, func(a string) bool {
		scheme, _, _ := strings.Cut(a, ":")
		return !slices.Contains(e.Schemes, scheme)
	})
	if len(of) > 0 && !sitedb.IsGiven(of[0]) {
		return Database(fsys, of[0], page)
	}
	if len(of) > 0 {
		return sitedb.NewGiven(of, func(a string) (sitedb.Server, error) { return Database(fsys, a, page) })
	}
	return nil, fmt.Errorf("%w: %s; add its address to those that the host has, like %s", ErrNoServer,
		strings.Join(e.Titles, " or "),
		e.Example)
}

// AsFound returns the address of a database server that was found on a host as it is to be opened from here: what names that very
// machine is reached through it.
func AsFound(fsys hostfs.FS, address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	options := u.Query()
	if _, remote := fsys.(hostfs.Dialer); remote && isLoopback(u.Hostname()) {
		options.Set("through", "files")
		u.RawQuery = options.Encode()
	}
	return u.String()
}

// Page says where on a host a page of ours can be placed, and how it is asked for.
type Page struct {
	Folder  string // below the host's files
	At      check.Reach
	Journal sitepage.Journal
	Admin   bool // what is reached through it is the server of a host, and not the database of a source
}

// PageOf is where a host is asked what runs on it.
func (s *Hosts) PageOf(h records.Host) Page {
	address := strings.ReplaceAll(h.Address, "{name}", asksName)
	folder, err := Fill(h.WebRoot, asksName, address)
	if err != nil {
		return Page{}
	}
	return Page{Folder: folder, At: Reach(h, address), Journal: s.Pages(h.ID, folder), Admin: true}
}

// through opens connections from a page in a folder of the host's files. close takes the page away, and the folder if nothing is in it.
func (p Page) through(fsys hostfs.FS, u *url.URL) (dial sitedb.Dial, stop func() error, err error) {
	send, err := check.Sender(p.At)
	if err != nil {
		return nil, nil, err
	}
	ctx := context.Background()
	folder, err := fsys.MakeSub(ctx, p.Folder)
	if err != nil {
		return nil, nil, fmt.Errorf("place a page in %s: %w", p.Folder, err)
	}
	r := relay.New(relay.Place{Spot: sitepage.Spot{Folder: folder, Journal: p.Journal}, Send: send}, sitedb.Listens(u))
	return r.Dial, func() error {
		return errors.Join(r.Close(), folder.Close(), removeAsksFolder(ctx, fsys, p.Folder))
	}, nil
}

// throughPage is a server that is reached from a page.
type throughPage struct {
	sitedb.Server
	stop func() error
}

func (t throughPage) Close() error { return errors.Join(t.Server.Close(), t.stop()) }

// Database connects to a database server. An address with through=files is reached from where the files are, one with through=page from a
// page of ours that is placed there.
func Database(fsys hostfs.FS, address string, page Page) (sitedb.Server, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, errors.New("the database address cannot be read")
	}
	options := u.Query()
	through := options.Get("through")
	options.Del("through")
	u.RawQuery = options.Encode()
	switch dialer, remote := fsys.(hostfs.Dialer); {
	case through == "":
		return sitedb.Connect(u.String())
	case through == "page" && page.Admin && !sitedb.IsGiven(u.String()):
		return nil, errors.New("the account of an administrator is not used through a page: every program of the account that runs there could " +
			"join in. Give the databases of the host one by one, each with its own account, or an address that the server is reached at")
	case through == "page":
		dial, stop, err := page.through(fsys, u)
		if err != nil {
			return nil, err
		}
		server, err := sitedb.ConnectThrough(u.String(), dial)
		if err != nil {
			return nil, errors.Join(err, stop())
		}
		return throughPage{server, stop}, nil
	case through != "files":
		return nil, fmt.Errorf("through=%s in the database address is not known; there are through=files and through=page", through)
	case !remote:
		return nil, errors.New("through=files in the database address needs files that are reached in a way that reaches further, such " +
			"as over SSH")
	default:
		return sitedb.ConnectThrough(u.String(), dialer.Dial)
	}
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// FilesByID connects to the files of the host with a number.
func (s *Hosts) FilesByID(ctx context.Context, id int64) (hostfs.FS, error) {
	h, err := s.DB.HostByID(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.Files(ctx, h)
}

// OpenByID connects to the host with a number, as Open.
func (s *Hosts) OpenByID(ctx context.Context, id int64, engine string) (hostfs.FS, sitedb.Server, error) {
	h, err := s.DB.HostByID(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	return s.Open(ctx, h, engine)
}

// WithPassword puts the password from the vault, if there is one, into a database address. Of several addresses, which are separated
// by spaces, each has its line in the secret.
func (s *Hosts) WithPassword(ctx context.Context, address, noun, owner string) (string, error) {
	secret, err := s.Vault.Get(ctx, noun, owner, databaseSecret)
	if errors.Is(err, records.ErrNotFound) {
		return address, nil
	}
	if err != nil {
		return "", err
	}
	if address, err = withPasswords(address, secret); err != nil {
		return "", fmt.Errorf("database address of %s %s cannot be read", noun, owner)
	}
	return address, nil
}

func withPasswords(addresses, passwords string) (string, error) {
	all, lines := strings.Fields(addresses), strings.Split(passwords, "\n")
	for i, a := range all {
		if i >= len(lines) || lines[i] == "" {
			continue
		}
		u, err := url.Parse(a)
		if err != nil {
			return "", err
		}
		u.User = url.UserPassword(u.User.Username(), lines[i])
		all[i] = u.String()
	}
	return strings.Join(all, " "), nil
}

// Owns reports whether a host and port is that of a host's sites.
func Owns(h records.Host, hostport string) bool {
	u, err := url.Parse(strings.ReplaceAll(h.Address, "{name}", "0name0"))
	if err != nil {
		return false
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	before, after, pattern := strings.Cut(strings.ToLower(u.Hostname())+":"+port, "0name0")
	if !pattern {
		return hostport == before
	}
	name := strings.TrimSuffix(strings.TrimPrefix(hostport, before), after)
	return strings.HasPrefix(hostport, before) && strings.HasSuffix(hostport, after) && name != "" && !strings.ContainsAny(name, ".:[]")
}

// Reach says how a site on a host is reached. It may be inside a private network where the host's own address is.
func Reach(h records.Host, address string) check.Reach {
	r := check.Reach{Address: address, Connect: h.Connect}
	if u, err := url.Parse(address); err == nil {
		port := u.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
		}
		r.Private = Owns(h, strings.ToLower(u.Hostname())+":"+port)
	}
	return r
}

// ReachBelow says how a site of a network is reached, whose host name may be one below that of a site on the host.
func ReachBelow(h records.Host, address string) check.Reach {
	r := Reach(h, address)
	if u, err := url.Parse(address); err == nil && !r.Private {
		if _, above, below := strings.Cut(u.Host, "."); below {
			u.Host = above
			r.Private = Reach(h, u.String()).Private
		}
	}
	return r
}

// Fill puts a site's name and host name into a host's pattern.
func Fill(pattern, name, address string) (string, error) {
	u, err := rewrite.ParseAddress(address)
	if err != nil {
		return "", err
	}
	return strings.NewReplacer("{name}", name, "{host}", u.Hostname()).Replace(pattern), nil
}

// PlainFiles connects to a host's files so that what is made is the service's own, and not of the account that sites run as.
func (s *Hosts) PlainFiles(ctx context.Context, h records.Host) (hostfs.FS, error) {
	u, err := url.Parse(h.Files)
	if err != nil {
		return nil, errors.New("the address of the files cannot be read")
	}
	options := u.Query()
	options.Del("owner")
	u.RawQuery = options.Encode()
	h.Files = u.String()
	return s.Files(ctx, h)
}

// Folder is a folder of a host, and the kind of the site that it looks like, if it does.
type Folder struct {
	Name string
	Kind string
}

// mostFolders is how many folders are shown of one: somebody looks through them.
const mostFolders = 500

// Folders lists the folders in a folder of a host's files, and says which look like a site. More says that there are others.
func (s *Hosts) Folders(ctx context.Context, name, folder string) (out []Folder, more bool, err error) {
	h, err := s.DB.Host(ctx, name)
	if err != nil {
		return nil, false, err
	}
	fsys, err := s.Files(ctx, h)
	if err != nil {
		return nil, false, err
	}
	defer fsys.Close()
	kinds, err := s.Kinds.All(ctx)
	if err != nil {
		return nil, false, err
	}
	entries, err := fsys.List(ctx, cmp.Or(folder, "."))
	if err != nil {
		return nil, false, input.Wrongf("the folder %q of host %s cannot be read: %w", folder, name, err)
	}
	for _, e := range entries {
		if !e.Mode.IsDir() || strings.HasPrefix(e.Path, ".") {
			continue
		}
		if len(out) == mostFolders {
			return out, true, nil
		}
		out = append(out, Folder{Name: e.Path})
	}
	var group parallel.Group
	each := make(chan int)
	for range 8 {
		group.Go(func() error {
			for i := range each {
				at := slices.IndexFunc(kinds, func(k *kind.Kind) bool { return len(k.Detect) > 0 && k.In(ctx, fsys, path.Join(folder, out[i].Name)) })
				if at >= 0 {
					out[i].Kind = kinds[at].Name
				}
			}
			return nil
		})
	}
	for i := range out {
		each <- i
	}
	close(each)
	return out, false, group.Wait()
}
