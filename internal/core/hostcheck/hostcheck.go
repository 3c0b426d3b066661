// Package hostcheck tries a host before anything depends on it: every step that reading a source and making a site take there, with
// what was seen, and for what does not work the words to ask the hosting company with.
//
//	steps := hostcheck.Files(ctx, fsys)
//	steps = append(steps, hostcheck.Database(ctx, server)...)
//
// What it makes on the host, it takes away again.
package hostcheck

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
)

// trial begins the name of a folder in which it is tried what can be done. Each test has its own: two may try a host at once, or two hosts
// be one folder that different accounts write in.
const trial = ".nestseed-test-"

// probe is the database and account that are made and dropped.
const probe = "nestseed_test"

// Name says where the name of a host leads. files is the address of its files.
func Name(ctx context.Context, files string) []check.Check {
	u, err := url.Parse(files)
	if err != nil || u.Hostname() == "" || net.ParseIP(u.Hostname()) != nil {
		return nil
	}
	found, err := net.DefaultResolver.LookupHost(ctx, u.Hostname())
	if err != nil {
		return []check.Check{failed("name", fmt.Sprintf("the name %s leads nowhere: %v", u.Hostname(), err), fmt.Sprintf(
			"Which host name are we to use for transferring files? %s is not known.", u.Hostname()))}
	}
	return []check.Check{passed("name", u.Hostname()+" is "+strings.Join(found, ", "))}
}

// NotReached says what it means that a host's files could not be opened.
func NotReached(files string, err error) check.Check {
	u, parseErr := url.Parse(files)
	var network *net.OpError
	switch {
	case parseErr != nil || u.Hostname() == "":
		return failed("log-in", err.Error(), "")
	case errors.Is(err, hostfs.ErrHostKey):
		return failed("host key", err.Error(),
			fmt.Sprintf("Has the key or certificate of %s been changed? Please tell us its SHA-256 fingerprint.",
				u.Host))
	case errors.As(err, &network):
		return failed("reachability", err.Error(),
			fmt.Sprintf("We cannot connect to %s. Is %s offered there, on which port, and must our address "+
				"be let through a firewall first?", u.Host, hostfs.Title(u.Scheme)))
	}
	return failed("log-in", err.Error(),
		fmt.Sprintf("Logging in as %s at %s with %s does not work. Is the account right, and may it reach the folder %s?",
			u.User.Username(), u.Host, hostfs.Title(u.Scheme), u.Path))
}

func passed(name, sentence string, evidence ...string) check.Check {
	return check.Check{Name: name, Result: check.Pass, Sentence: sentence, Evidence: evidence}
}

func warned(name, sentence, ask string) check.Check {
	return check.Check{Name: name, Result: check.Warn, Sentence: sentence, Remedy: ask}
}

func failed(name, sentence, ask string) check.Check {
	return check.Check{Name: name, Result: check.Fail, Sentence: sentence, Remedy: ask}
}

// Files tries what is done with a host's files.
func Files(ctx context.Context, fsys hostfs.FS) (out []check.Check) {
	// Who asks may leave; what was made is taken away all the same.
	folder := trial + strings.ToLower(rand.Text())
	defer fsys.RemoveAll(context.WithoutCancel(ctx), folder) //nolint:errcheck // a later test removes it
	removeOld(ctx, fsys)
	out = append(out, write(ctx, fsys, folder))
	if out[0].Result == check.Fail {
		return out
	}
	return append(out, rename(ctx, fsys, folder), link(ctx, fsys, folder), exchange(ctx, fsys, folder), space(ctx, fsys))
}

// removeOld removes what tests have left that were cut off, as far as this account may.
func removeOld(ctx context.Context, fsys hostfs.FS) {
	all, _ := fsys.List(ctx, ".")
	for _, e := range all {
		if strings.HasPrefix(e.Path, trial) && time.Since(e.ModTime) > time.Hour {
			fsys.RemoveAll(ctx, e.Path) //nolint:errcheck // it may be another account's
		}
	}
}

func mayWrite(fsys hostfs.FS) string {
	return fmt.Sprintf("Please let our account make, change and remove files and folders in %s.", fsys.Root())
}

func write(ctx context.Context, fsys hostfs.FS, folder string) check.Check {
	content := bytes.Repeat([]byte("one two three four five six seven\r\n\x00\xff"), 100)
	name := folder + "/a folder/Grüße.txt"
	began := time.Now()
	if err := hostfs.WriteFile(ctx, fsys, name, content, 0o640); err != nil {
		return failed("write", "a file cannot be made: "+err.Error(), mayWrite(fsys))
	}
	text, err := hostfs.ReadFile(ctx, fsys, name, 1<<20)
	if err != nil {
		return failed("write", "a file that was made cannot be read: "+err.Error(), mayWrite(fsys))
	}
	if !bytes.Equal(text, content) {
		return failed("write", "a file comes back with other bytes than it was written with",
			"Files that we transfer in binary mode are changed on "+
				"the way. Is there something in between that rewrites them?")
	}
	if e, err := fsys.Stat(ctx, name); err != nil || e.Mode.Perm() != 0o640 {
		return warned("write", fmt.Sprintf("a file is written and read, and has the mode %v instead of rw-r-----: settings files would "+
			"be readable "+
			"for others (%v)", e.Mode.Perm(), err), "Please let our account change the modes of files (chmod).")
	}
	return passed("write", fmt.Sprintf("a file is written, read and has the mode it was given, in %d ms", time.Since(began).Milliseconds()))
}

func rename(ctx context.Context, fsys hostfs.FS, folder string) check.Check {
	name := folder + "/settings"
	err := errors.Join(hostfs.WriteFile(ctx, fsys, name, []byte("old"), 0o644), hostfs.WriteFile(ctx, fsys, name, []byte("new"), 0o644))
	text, readErr := hostfs.ReadFile(ctx, fsys, name, 100)
	if err := errors.Join(err, readErr); err != nil || string(text) != "new" {
		return failed("rename", fmt.Sprintf("a file cannot be put in the place of another: %v", err), mayWrite(fsys))
	}
	return passed("rename", "a file is put in the place of another")
}

func link(ctx context.Context, fsys hostfs.FS, folder string) check.Check {
	switch err := fsys.Symlink(ctx, "settings", folder+"/link"); {
	case errors.Is(err, hostfs.ErrNoLinks):
		return warned("link", err.Error()+"; releases with links cannot be placed here",
			"Is there another way to transfer files than this one, in which links can be made?")
	case err != nil:
		return warned("link", "a link cannot be made: "+err.Error(), "Please let our account make symbolic links.")
	}
	return passed("link", "a link is made")
}

func exchange(ctx context.Context, fsys hostfs.FS, folder string) check.Check {
	a, b := folder+"/one", folder+"/two"
	err := errors.Join(fsys.Mkdir(ctx, a, 0o755), fsys.Mkdir(ctx, b, 0o755))
	if err == nil {
		err = hostfs.Exchange(ctx, fsys, a, b)
	}
	if err != nil {
		return failed("exchange", "two folders cannot change places: "+err.Error(), mayWrite(fsys))
	}
	if _, steps := fsys.(hostfs.Settler); steps {
		return passed("exchange", "two folders change places in three steps; a site that is replaced is away for a moment")
	}
	return passed("exchange", "two folders change places at one moment")
}

func space(ctx context.Context, fsys hostfs.FS) check.Check {
	free, err := hostfs.FreeBytes(ctx, fsys)
	switch {
	case errors.Is(err, hostfs.ErrSpaceUnknown):
		return warned("space", err.Error()+"; a site that does not fit shows only when it is made",
			"How much space does our account have, and how "+
				"much of it is free?")
	case err != nil:
		return warned("space", err.Error(), "")
	case free < 256<<20:
		return failed("space", progress.SizeText(free)+" free; no site fits", "Please give our account more space.")
	}
	return passed("space", progress.SizeText(free)+" free")
}

// skew is by how much clocks may differ before it matters to what depends on time.
const skew = 2 * time.Minute

// Runtime says what a host told of what runs its programs. folder is where the page lay that told it, as the host's files have it.
func Runtime(r provision.Runtime, fsys hostfs.FS, folder string) (out []check.Check) {
	sentence := fmt.Sprintf("%s %s", r.Name, r.Version)
	if r.Account != "" {
		sentence += " runs as the account " + r.Account
	}
	switch why := r.Refuses(); {
	case why != "":
		out = append(out, failed("programs", why,
			fmt.Sprintf("%s runs as %s and cannot read and write what our account places (settings files of mode 0640, folders of mode 0775). "+
				"Can it run as our account, or can both be in one group that our folder belongs to, with the set-group bit (chmod g+s)?",
				r.Name, r.Account)))
	case r.Stays:
		out = append(out, warned("programs", sentence+" and makes folders whose content our account cannot remove: a site that is replaced or "+
			"retired leaves them", fmt.Sprintf("Can %s be run with the umask 002, so that our account can remove what it makes in its folders?",
			r.Name)))
	case r.Writes == provision.WritesGroup:
		out = append(out, passed("programs", fmt.Sprintf("%s, reads what is placed, and writes in folders whose group may; it has %d extensions",
			sentence, len(r.Parts))))
	default:
		out = append(out, passed("programs", fmt.Sprintf("%s and reads what is placed; it has %d extensions", sentence, len(r.Parts))))
	}
	if why := r.TellsApart(); why != "" {
		out = append(out, warned("sites apart", why+"; sites of different clients do not share code here until then",
			fmt.Sprintf("Can %s be kept from opening files outside of each site's own folder, by the web server (PHP_ADMIN_VALUE, open_basedir) "+
				"or by an account for each site, and from starting programs (disable_functions)?", r.Name)))
	} else {
		out = append(out, passed("sites apart", "the programs of one site cannot read the settings of another, also where somebody has put a "+
			".user.ini of their own into a folder of it"))
	}
	if r.Folder != "" && r.Folder != folder {
		out = append(out, warned("folder",
			fmt.Sprintf("what is %s in the host's files is %s for the programs there; paths in sites would be wrong: "+
				"add ?seen=FOLDER to the address of the files, with what they call %s, or let the test change it", folder, r.Folder, fsys.Root()), ""))
	}
	if !r.Clock.IsZero() {
		out = append(out, clock("clock of the web server", r.Clock.Sub(r.AskedAt)))
	}
	return out
}

func clock(name string, ahead time.Duration) check.Check {
	if ahead.Abs() > skew {
		return warned(name, fmt.Sprintf("it differs from the clock here by %v; pages that ask a site something are silent after minutes",
			ahead.Abs().
				Round(time.Second)), "Is the clock of the server set by NTP? It is wrong by "+ahead.Abs().Round(time.Second).String()+".")
	}
	return passed(name, fmt.Sprintf("differs from the clock here by %d s", int(ahead.Abs().Seconds())))
}

// Database tries what is done on a host's database server: make a database and an account that may work in it and nowhere else.
func Database(ctx context.Context, server sitedb.Server) (out []check.Check) {
	v, err := server.Version(ctx)
	if err != nil {
		return append(out, failed("database", err.Error(),
			"At which address and port is the database server reached from outside, or over SSH, and "+
				"with which account?"))
	}
	out = append(out, passed("database", fmt.Sprintf("%s %s lets us in", v.Engine, v.Number)))
	facts, err := server.Facts(ctx)
	if err != nil {
		return append(out, warned("database limits", err.Error(), ""))
	}
	const least = 4 << 20
	if facts.StatementBytes < least {
		out = append(out, warned("database limits", fmt.Sprintf("a statement may have %s; rows larger than that cannot be loaded",
			progress.SizeText(facts.StatementBytes)), "Please raise the largest packet of the database server (max_allowed_packet) to 64 MB."))
	} else {
		out = append(out, passed("database limits", fmt.Sprintf("a statement may have %s", progress.SizeText(facts.StatementBytes))))
	}
	out = append(out, passed("character set", facts.Charset+" by itself; each database is made with the one that its site needs"),
		clock("clock of the database", time.Until(facts.Now)))
	return append(out, rights(ctx, server))
}

// ofTest begins the owner of a database that was given while it is tried.
const ofTest = "host-test-"

// givenRights tries a database that was given, and says how many of them are empty.
func givenRights(ctx context.Context, g sitedb.Giver) check.Check {
	const name = "given databases"
	ask := "Please make an empty database with an account of its own, which may do everything in it, and tell us both."
	names, used, err := g.Given(ctx)
	if err != nil {
		return failed(name, err.Error(), ask)
	}
	for _, database := range names {
		if used[database] {
			// One that a test was cut off in is empty too.
			owner, err := g.Owner(ctx, database)
			if err != nil || !strings.HasPrefix(owner, ofTest) {
				continue
			}
			if err := g.Drop(ctx, database, owner); err != nil {
				return failed(name, err.Error(), ask)
			}
			used[database] = false
		}
		probe := ofTest + rand.Text()
		if err := errors.Join(g.Take(ctx, database, probe), g.Drop(context.WithoutCancel(ctx), database, probe)); err != nil {
			return failed(name, fmt.Sprintf("nothing can be made in database %s: %v", database, err), ask)
		}
	}
	free := len(names) - len(used)
	for _, is := range used {
		if !is {
			free++
		}
	}
	if free == 0 {
		return warned(name, fmt.Sprintf("there are tables in each of the %d; no further site can be made here, and none be replaced",
			len(names)), ask)
	}
	return passed(name, fmt.Sprintf("%d of %d are empty, and a table can be made and dropped", free, len(names)))
}

func rights(ctx context.Context, server sitedb.Server) (out check.Check) {
	if g, is := server.(sitedb.Giver); is {
		return givenRights(ctx, g)
	}
	ask := "May our database account make databases and accounts (CREATE USER, and all rights with GRANT OPTION)? If not, please " +
		"make an empty " +
		"database with an account of its own for each site."
	password := provision.Password(28)
	cleanUp := func() error {
		ctx := context.WithoutCancel(ctx)
		return errors.Join(server.DropUser(ctx, probe), server.DropDatabase(ctx, probe)) // so that an account alone is never ours
	}
	if there, err := server.DatabaseExists(ctx, probe); err != nil {
		return failed("database rights", err.Error(), ask)
	} else if there {
		if err := empty(ctx, server); err != nil {
			return failed("database rights", fmt.Sprintf("a database %s is there, and is not one that a test has left: %v; rename it", probe, err),
				"")
		}
		if err := cleanUp(); err != nil {
			return failed("database rights", err.Error(), ask)
		}
	}
	if there, err := server.UserExists(ctx, probe); err != nil {
		return failed("database rights", err.Error(), ask)
	} else if there {
		return failed("database rights", fmt.Sprintf("an account %s is there, and is not one that a test has left; rename it", probe), "")
	}
	if err := server.CreateDatabase(ctx, probe); err != nil {
		return failed("database rights", err.Error(), ask)
	}
	defer func() {
		if err := cleanUp(); err != nil && out.Result != check.Fail {
			out = failed("database rights", "what was made cannot be dropped: "+err.Error(), ask)
		}
	}()
	if err := server.CreateUser(ctx, probe, password, probe); err != nil {
		return failed("database rights", err.Error(), ask)
	}
	db, err := server.OpenAs(ctx, probe, probe, password)
	if err != nil {
		return failed("database rights", err.Error(), ask)
	}
	defer db.Close()
	if _, err := db.Tables(ctx); err != nil {
		return failed("database rights", err.Error(), ask)
	}
	return passed("database rights", "a database and an account for it are made and dropped")
}

// empty reports why the database of the test is not one that a test has left.
func empty(ctx context.Context, server sitedb.Server) error {
	db, err := server.Open(ctx, probe)
	if err != nil {
		return err
	}
	defer db.Close()
	tables, err := db.Tables(ctx)
	if err == nil && len(tables) > 0 {
		err = fmt.Errorf("it has %d tables", len(tables))
	}
	return err
}

// NotTold says what it means that a host did not tell what runs on it.
func NotTold(err error) check.Check {
	return failed("programs", err.Error(), "Which folder belongs to the address of a site, and which account do its programs run as?")
}
