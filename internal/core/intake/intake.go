// Package intake makes a site that can be packed out of what was made elsewhere: archives of files, dumps of
// databases, or both.
//
// Open unpacks archives into a scratch folder, looks for the site in them, reads the dump (inside an archive or
// beside it) and finds out kind, web root, table prefix and address. The result is read like a source on a host,
// so that a release is built from it as from any other:
//
//	in, err := intake.Open(ctx, intake.Input{Scratch: fsys, Files: files, Kinds: kinds}, reporter)
//	defer in.Close()
//	build.Build(ctx, out, build.Input{FS: in.FS, Root: in.Root, DB: in.DB(), Identity: in.Identity, …}, reporter)
//
// Nothing of what comes from outside is run, and nothing is written outside the scratch folder.
package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/foreign"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/network"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/survey"
)

// File is a file from outside.
type File = archive.Piece

// Input is what is imported.
type Input struct {
	Scratch hostfs.FS // an empty folder on this machine
	Files   []File    // archives, or one dump
	Dump    *File     // the dump, where it is given beside
	Kinds   []*kind.Kind
	Kind    string // the name of the one that counts where more than one fits; "" for none
	Limits  foreign.Limits
}

// Site is what was found.
type Site struct {
	FS       hostfs.FS
	Root     string // the web root below FS; "" without files
	Identity *kind.Identity
	Address  string
	Also     []string // other addresses that the site gives for itself
	WebRoot  string   // where the site lay on its server, as far as its rows tell
	Notes    []string

	db    sitedb.Reader // a dump, or a database that is a file
	close []func()
}

// ErrNotFound says that there is no site, or no dump, in what was given.
var ErrNotFound = errors.New("nothing to import")

// DB returns the database, or nil when there is none.
func (s *Site) DB() sitedb.Reader { return s.db }

// Only says what there is: "files", "database", or "" for both.
func (s *Site) Only() string {
	switch {
	case s.db == nil:
		return "files"
	case s.Root == "":
		return "database"
	}
	return ""
}

// Close ends reading; the scratch folder is the caller's.
func (s *Site) Close() {
	for _, c := range slices.Backward(s.close) {
		c()
	}
}

func (s *Site) note(format string, args ...any) {
	s.Notes = append(s.Notes, fmt.Sprintf(format, args...))
}

const treeFolder = "tree"

// Open brings files in. Errors: archive.ErrHostile, archive.ErrDamaged, archive.ErrNotOurs, sitedb.ErrRefused,
// ErrNotFound, kind.ErrUnknown.
func Open(ctx context.Context, in Input, report progress.Reporter) (*Site, error) {
	o := &opener{ctx: ctx, in: in, report: report, site: &Site{FS: in.Scratch}}
	if err := o.open(); err != nil {
		o.site.Close()
		return nil, err
	}
	return o.site, nil
}

type opener struct {
	ctx      context.Context
	in       Input
	report   progress.Reporter
	site     *Site
	unpacked int64
}

func (o *opener) open() error {
	files, err := o.unpack()
	if err != nil {
		return err
	}
	if files > 0 {
		if err := o.findRoot(); err != nil {
			return err
		}
	}
	if err := o.findDatabase(files > 0); err != nil {
		return err
	}
	if o.site.Identity == nil && o.site.db == nil {
		return fmt.Errorf("%w: there is neither a site nor a dump in it", ErrNotFound)
	}
	return o.findFacts()
}

// unpack writes all archives below one folder, and puts a dump aside. It returns how many files there are.
func (o *opener) unpack() (files int64, err error) {
	if err := o.in.Scratch.Mkdir(o.ctx, treeFolder, 0o755); err != nil {
		return 0, err
	}
	limits := o.in.Limits
	for _, f := range o.in.Files {
		sort, err := foreign.FormatOf(f.R, f.SizeBytes)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", f.Name, err)
		}
		if sort == foreign.Dump {
			if o.in.Dump != nil {
				return 0, fmt.Errorf("%w: %s and %s are both dumps; give one", ErrNotFound, o.in.Dump.Name, f.Name)
			}
			o.in.Dump = &f
			continue
		}
		u, err := foreign.Unpack(o.ctx, f.R, f.SizeBytes, o.in.Scratch, treeFolder, limits, o.report)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", f.Name, err)
		}
		files += u.Files
		limits.Bytes -= u.Bytes
	}
	o.in.Limits = limits
	return files, nil
}

// findRoot looks for the folder that is the web root of a site of a known kind: the one that lies highest.
func (o *opener) findRoot() error {
	var roots []string
	err := o.walk(func(e hostfs.Entry) {
		for _, k := range o.in.Kinds {
			root, is := strings.CutSuffix("/"+e.Path, "/"+k.Detect[0])
			if root = path.Join(treeFolder, root); !is || !o.hasAll(root, k.Detect) ||
				slices.ContainsFunc(roots, func(r string) bool { return strings.HasPrefix(root, r+"/") }) {
				continue
			}
			roots = append(slices.DeleteFunc(roots, func(r string) bool { return strings.HasPrefix(r, root+"/") }), root)
		}
	})
	if err != nil {
		return err
	}
	switch len(roots) {
	case 0:
		return nil // perhaps the archive holds a dump only
	case 1:
	default:
		return fmt.Errorf("%w: there are several sites side by side (%s); import one at a time", ErrNotFound,
			strings.Join(trimTree(roots), ", "))
	}
	id, err := o.identify(roots[0])
	if errors.Is(err, kind.ErrNoSettings) && id != nil {
		id, err = o.settingsFromSample(id.Kind, roots[0])
	}
	if err == nil {
		err = id.CanBeSource()
	}
	if err != nil {
		return err
	}
	o.site.Root, o.site.Identity = roots[0], id
	return nil
}

func trimTree(paths []string) []string {
	out := make([]string, len(paths))
	for i, p := range paths {
		out[i] = strings.TrimPrefix(strings.TrimPrefix(p, treeFolder), "/")
	}
	return out
}

func (o *opener) walk(visit func(hostfs.Entry)) error {
	return o.in.Scratch.Walk(o.ctx, treeFolder, func(e hostfs.Entry) error {
		visit(e)
		return nil
	}, func(string, error) {})
}

func (o *opener) hasAll(root string, signs []string) bool {
	return !slices.ContainsFunc(signs, func(s string) bool {
		_, err := o.in.Scratch.Stat(o.ctx, path.Join(root, s))
		return err != nil
	})
}

// settingsFromSample makes a settings file of the sample that comes with the CMS, as many archives are made
// without the file that has the passwords.
func (o *opener) identify(root string) (*kind.Identity, error) {
	id, err := kind.Identify(o.ctx, o.in.Scratch, root, o.in.Kinds)
	if errors.Is(err, kind.ErrAmbiguous) && o.in.Kind != "" {
		k, named := kind.Named(o.in.Kinds, o.in.Kind)
		if named != nil {
			return nil, errors.Join(err, named)
		}
		return kind.Identify(o.ctx, o.in.Scratch, root, []*kind.Kind{k})
	}
	return id, err
}

func (o *opener) settingsFromSample(k *kind.Kind, root string) (*kind.Identity, error) {
	text, err := hostfs.ReadFile(o.ctx, o.in.Scratch, path.Join(root, k.Settings.Sample), 1<<20)
	if k.Settings.Sample == "" || err != nil {
		return nil, fmt.Errorf("%w: the archive has no settings file (%s) and no sample of one", ErrNotFound,
			strings.Join(k.Settings.Files, ", "))
	}
	// Placeholders of the sample are no secrets, and would be searched for as if they were.
	s, err := kind.ReadSettings(k.Settings.Syntax, text, "", nil)
	if err != nil {
		return nil, err
	}
	d := k.Settings.Database
	for _, name := range slices.DeleteFunc(append([]string{d.Password, d.User, d.Name}, k.Settings.Salts...),
		func(s string) bool { return s == "" }) {
		s.Set(name, "")
	}
	if err := hostfs.WriteFile(o.ctx, o.in.Scratch, path.Join(root, k.Settings.Files[0]), s.Bytes(), 0o600); err != nil {
		return nil, err
	}
	o.site.note("the archive had no settings file; one was made of %s", k.Settings.Sample)
	return o.identify(root)
}

var dumpName = regexp.MustCompile(`(?i)\.(sql|dump|mysql)(\.(gz|bz2|xz|zst|zip))?$|\.(sql|db)[-_.].*\.(gz|zip)$`)

// findDatabase opens the dump that was given, or the one that lies in the archive; or a database that is a file.
func (o *opener) findDatabase(hasFiles bool) (err error) {
	if o.in.Dump != nil {
		if o.site.db, err = o.openGiven(*o.in.Dump); err != nil {
			return err
		}
	}
	if !hasFiles {
		return nil
	}
	if err := o.ownFile(); err != nil {
		return err
	}
	var found []string
	err = o.walk(func(e hostfs.Entry) {
		if e.Mode.IsRegular() && e.SizeBytes > 0 && dumpName.MatchString(e.Path) {
			found = append(found, path.Join(treeFolder, e.Path))
		}
	})
	if err != nil {
		return err
	}
	var reasons []string
	for _, p := range found {
		if err := o.tryDump(p); err != nil {
			reasons = append(reasons, fmt.Sprintf("%s: %v", strings.TrimPrefix(p, treeFolder+"/"), err))
		}
	}
	if o.site.db == nil && len(reasons) > 0 {
		return fmt.Errorf("%w: no dump in the archive is the site's: %s", ErrNotFound, strings.Join(reasons, "; "))
	}
	return nil
}

// tryDump takes a dump in the tree if it is the site's. Dumps do not stay in the tree: they hold what a release
// must not.
func (o *opener) tryDump(p string) error {
	f, err := o.in.Scratch.Open(o.ctx, p)
	if err != nil {
		return err
	}
	e, err := o.in.Scratch.Stat(o.ctx, p)
	if err != nil {
		f.Close()
		return err
	}
	at, ok := f.(io.ReaderAt)
	if !ok {
		f.Close()
		return errors.New("the scratch folder is not on this machine")
	}
	defer o.in.Scratch.RemoveAll(o.ctx, p)
	dump, err := o.openDump(File{Name: strings.TrimPrefix(p, treeFolder+"/"), R: at, SizeBytes: e.SizeBytes})
	if err != nil || o.site.db != nil || !o.belongs(dump) {
		f.Close()
		if err == nil && o.site.db != nil {
			o.site.note("%s is a dump too; it was left out", strings.TrimPrefix(p, treeFolder+"/"))
		} else if err == nil {
			err = fmt.Errorf("it has no tables of %s", o.kindTitle())
		}
		return err
	}
	o.site.close = append(o.site.close, func() { f.Close() })
	o.site.db = dump
	return nil
}

func (o *opener) kindTitle() string {
	if o.site.Identity != nil {
		return o.site.Identity.Kind.Title
	}
	return "any known kind"
}

func (o *opener) belongs(d sitedb.Reader) bool {
	for _, k := range o.candidates() {
		if len(prefixes(d, k)) > 0 {
			return true
		}
	}
	return false
}

func (o *opener) candidates() []*kind.Kind {
	if o.site.Identity != nil {
		return []*kind.Kind{o.site.Identity.Kind}
	}
	return o.in.Kinds
}

func (o *opener) openDump(f File) (*sitedb.Dump, error) {
	o.unpacked++
	r, size, done, err := foreign.Script(o.ctx, f.R, f.SizeBytes, o.in.Scratch, fmt.Sprintf("dump-%d.sql", o.unpacked), o.in.Limits, o.report)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	o.site.close = append(o.site.close, done)
	o.report.Step("Read through the dump", progress.Amount{Bytes: size})
	d, err := sitedb.OpenDump(o.ctx, r, size, func(n int64) { o.report.Add(progress.Amount{Bytes: n}) })
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	return d, nil
}

// prefixes returns the table prefixes under which a database has all tables that tell a kind.
func prefixes(d sitedb.Reader, k *kind.Kind) (out []string) {
	tables, _ := d.Tables(context.Background())
	names := map[string]bool{}
	for _, t := range tables {
		names[t.Name] = true
	}
	if len(k.Tables) == 0 {
		return nil
	}
	for name := range names {
		prefix, is := strings.CutSuffix(name, k.Tables[0])
		if is && !slices.ContainsFunc(k.Tables, func(t string) bool { return !names[prefix+t] }) {
			out = append(out, prefix)
		}
	}
	slices.Sort(out)
	return out
}

// findFacts finds out prefix, address and web root.
func (o *opener) findFacts() error {
	s := o.site
	if s.db == nil {
		s.note("there is no database in it, so a release of it holds files only")
		if all, err := survey.Addresses(o.ctx, noDatabase{}, s.Identity); err == nil {
			s.Address, s.Also = all[0], all[1:]
		}
		return nil
	}
	var fits []string
	for _, k := range o.candidates() {
		if fits = prefixes(s.db, k); len(fits) > 0 {
			if s.Identity == nil {
				s.Identity = &kind.Identity{Kind: k}
				s.note("there are no files in it, so a release of it holds the database only")
			}
			break
		}
	}
	switch {
	case len(fits) == 0:
		return fmt.Errorf("%w: the dump has no tables of %s", kind.ErrUnknown, o.kindTitle())
	case slices.Contains(fits, s.Identity.Prefix):
	case len(fits) > 1:
		return fmt.Errorf("%w: the dump has tables of several sites (prefixes %s) and no settings file says which; dump one site's tables",
			ErrNotFound, strings.Join(fits, ", "))
	default:
		if s.Identity.Prefix != "" {
			s.note("the settings file has the table prefix %s, the dump has %s, which was taken", s.Identity.Prefix, fits[0])
		}
		s.Identity.Prefix = fits[0]
	}
	if told, is := s.db.(interface{ Notes() []string }); is {
		s.Notes = append(s.Notes, told.Notes()...)
	}
	if s.Root != "" {
		if err := network.Read(o.ctx, s.db, s.Identity); err != nil {
			return err
		}
	}
	all, err := survey.Addresses(o.ctx, s.db, s.Identity)
	switch {
	case errors.Is(err, survey.ErrNoAddress):
		s.note("it does not say at which address the site was, so that addresses in it stay as they are; add the site as a source, with " +
			"its address, where it can be reached")
	case err != nil:
		return err
	default:
		s.Address, s.Also = all[0], all[1:]
	}
	if s.WebRoot, err = o.webRoot(); err != nil {
		return err
	}
	return o.tokens()
}

type noDatabase struct{ sitedb.Reader }

func (noDatabase) Lookup(context.Context, string, string, string, string) (string, bool, error) {
	return "", false, nil
}

// readOptions looks at every option once, name and value: for the folder that the site lay in, and for what looks like a secret.
func (o *opener) readOptions(each func(name, value []byte)) error {
	opts := o.site.Identity.Kind.Options
	tables, err := o.site.db.Tables(o.ctx)
	name := o.site.Identity.Prefix + opts.Table
	if err != nil || opts.Table == "" || !slices.ContainsFunc(tables, func(t sitedb.Table) bool { return t.Name == name }) {
		return err
	}
	return sitedb.EachRow(o.ctx, o.site.db, name, []string{opts.Key, opts.Value}, func(row [][]byte) error {
		each(row[0], row[1])
		return nil
	})
}

// tokens tells of options that hold what looks like a secret: nobody has surveyed this site.
func (o *opener) tokens() error {
	var found []string
	err := o.readOptions(func(name, value []byte) {
		whole, inside := survey.Tokens(string(name), value)
		if whole {
			found = append(found, string(name))
		}
		for _, v := range inside {
			found = append(found, v.String())
		}
	})
	if len(found) > 0 {
		o.site.note("what looks like a token or licence is in the release unless the packing list blanks it: %s",
			strings.Join(found[:min(len(found), 20)], ", "))
	}
	return err
}

// webRoot looks in the options for the folder that the site lay in: what stands most often in front of the
// folder of media.
func (o *opener) webRoot() (string, error) {
	k := o.site.Identity.Kind
	first, _, _ := strings.Cut(k.Media.Folder, "/")
	if first == "" {
		return "", nil
	}
	form := regexp.MustCompile(`(?:^|[^A-Za-z0-9:/.\\_-])((?:/[A-Za-z0-9_.@ -]+){2,12})/` + regexp.QuoteMeta(first) + `[/"';]`)
	counts := map[string]int{}
	err := o.readOptions(func(_, value []byte) {
		for _, m := range form.FindAllSubmatch(value[:min(len(value), 1<<20)], 50) {
			counts[string(m[1])]++
		}
	})
	if err != nil {
		return "", err
	}
	best := ""
	for p, n := range counts {
		if n > counts[best] || n == counts[best] && p < best {
			best = p
		}
	}
	return best, nil
}
