package provision

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/rewrite"
)

// Shared is code on a host that several sites share: a site that does is a tenant.
type Shared struct {
	Install string   // whose code it is, for sentences
	Folder  string   // of the code, relative to the host's files
	All     string   // the folder that all shared code of the host is in
	Links   []string // what of a tenant's code leads there (see kind.Kind.Shared)
}

// links is what of a site leads to code that it shares, as a set; nil for a site that has its own.
type links map[string]bool

func linksOf(s *Shared) links {
	if s == nil {
		return nil
	}
	l := links{}
	for _, name := range s.Links {
		l[name] = true
	}
	return l
}

// covers reports whether a path is one of the links, or lies below where one leads.
func (l links) covers(p string) bool {
	for at := p; len(l) > 0 && at != "."; at = path.Dir(at) {
		if l[at] {
			return true
		}
	}
	return false
}

// leads reports whether an entry of a site's folder is one of the links.
func (l links) leads(e hostfs.Entry) bool { return e.Mode&fs.ModeSymlink != 0 && l[e.Path] }

// hostOf is the host name in an address.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return strings.ToLower(u.Hostname())
}

// away returns how a folder is named from another; both are relative to the same.
func away(from, to string) string {
	a, b := strings.Split(path.Clean(from), "/"), strings.Split(path.Clean(to), "/")
	if a[0] == "." {
		a = nil
	}
	same := 0
	for same < len(a) && same < len(b) && a[same] == b[same] {
		same++
	}
	return path.Join(strings.Repeat("../", len(a)-same), path.Join(b[same:]...))
}

// sharing plans what a site has of its own and what it shares.
func (p *Plan) sharing(ctx context.Context, req Request) error {
	problem := func(format string, args ...any) { p.Problems = append(p.Problems, fmt.Sprintf(format, args...)) }
	s := req.Shared
	if s == nil {
		return nil
	}
	p.Shares = s.Install
	switch u, err := url.Parse(p.Address); {
	case !req.Kind.Tenants.Can():
		problem("sites of %s do not share code: its definition does not say how (tenants)", req.Kind.Title)
		return nil
	case !hostfs.CanLink(req.FS):
		problem("a tenant's folder leads to the code of install %s by links, and none can be made on this host the way its files are reached",
			s.Install)
	case err == nil && u.Path != "":
		problem("the code of install %s tells its sites apart by host names, and this address has the folder %s; choose one without",
			s.Install, u.Path)
	}
	if _, err := req.FS.Stat(ctx, s.Folder); err != nil {
		problem("the code of install %s is not in %s any more: %v", s.Install, path.Join(req.FS.Root(), s.Folder), err)
	}
	if req.Refresh != nil {
		return nil // its files are counted as they are
	}
	shared := linksOf(s)
	p.Files, p.Bytes = int64(len(shared)), 0
	return req.Archive.Regular(func(f *zip.File, name string) error {
		if !shared.covers(name) {
			p.Files++
			p.Bytes += int64(f.UncompressedSize64)
		}
		return nil
	})
}

// sharingStep is the line about the code that is shared, where it is.
func (p *Plan) sharingStep(req Request) []Step {
	if req.Shared == nil {
		return nil
	}
	return []Step{{"Share the code of install " + req.Shared.Install, "by links to " + path.Join(req.FS.Root(), req.Shared.Folder) +
		", which the site cannot change; settings, content and database are its own", fmt.Sprintf("%d links", len(req.Shared.Links))}}
}

// codePlace says where the code of a refresh goes.
func (p *Plan) codePlace(req Request) string {
	out := "beside " + p.Folder
	if req.Shared != nil {
		out = "by links to " + path.Join(req.FS.Root(), req.Shared.Folder) + ", which is shared with the sites of install " + req.Shared.Install
	} else if req.Replace.Shared != nil {
		out += ", which from then on has its own and leaves install " + req.Replace.Shared.Install
	}
	return out
}

// plainStage opens the prepared folder so that what is made in it is the service's own, and no program of the site can change it.
func (mk *maker) plainStage(ctx context.Context) (hostfs.FS, error) {
	if mk.req.Plain == nil {
		return mk.req.FS.Sub(ctx, mk.staging)
	}
	return mk.req.Plain.Sub(ctx, mk.staging)
}

// makeStaging makes the folder that a site is prepared in. That of a tenant is the service's own, so that what stands in it directly
// cannot be put something else in the place of by the site's programs.
func (mk *maker) makeStaging(ctx context.Context) error {
	if mk.req.Shared != nil && mk.req.Plain != nil {
		return mk.req.Plain.Mkdir(ctx, mk.staging, 0o755)
	}
	return mk.req.FS.Mkdir(ctx, mk.staging, 0o755)
}

// share leads from the prepared site to the code that it shares, and takes away what did so before.
func (mk *maker) share(ctx context.Context) error {
	t := mk.req.Kind.Tenants
	if !t.Can() {
		return nil
	}
	plain, err := mk.plainStage(ctx)
	if err != nil {
		return err
	}
	defer plain.Close()
	for i := range t.Files {
		if err := mk.shareFile(ctx, plain, &t.Files[i]); err != nil {
			return err
		}
	}
	s := mk.req.Shared
	if s == nil {
		return nil
	}
	if t.Temporary != "" {
		mode := fs.FileMode(0o700)
		if mk.req.Runtime.byGroup() {
			mode |= groupReads | groupWrites | groupEnters
		}
		if err := mk.stage.Mkdir(ctx, t.Temporary, mode); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	for _, name := range s.Links {
		target := away(path.Dir(path.Join(mk.req.Folder, name)), path.Join(s.Folder, name))
		if err := plain.Symlink(ctx, target, name); err != nil {
			return fmt.Errorf("lead %s to the shared code: %w", name, err)
		}
		mk.placed(0)
	}
	host := hostOf(mk.plan.Address)
	for _, l := range t.Links {
		at := strings.ReplaceAll(l.At, "{host}", host)
		if _, err := plain.Stat(ctx, at); err == nil {
			continue // the site is known by that name already
		}
		if err := plain.Symlink(ctx, l.To, at); err != nil {
			return err
		}
	}
	return nil
}

// shareFile writes a file of a tenant: what the site has in it of its own, and then what is the kind's.
func (mk *maker) shareFile(ctx context.Context, plain hostfs.FS, f *kind.Text) error {
	text, err := hostfs.ReadFile(ctx, plain, f.File, 1<<20)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	begins, _, _ := strings.Cut(f.Text, "\n")
	own, _, ours := strings.Cut(string(text), begins)
	if mk.req.Shared == nil && !ours {
		return nil
	}
	if mk.req.Shared != nil {
		own = f.Kept(own)
	}
	if err := mk.discard(ctx, f.File); err != nil {
		return err
	}
	if mk.req.Shared != nil {
		own += strings.NewReplacer("{folder}", mk.plan.Folder, "{code}", path.Join(mk.req.FS.Root(), mk.req.Shared.All)).Replace(f.Text)
	}
	if own == "" {
		return nil
	}
	return hostfs.WriteFile(ctx, plain, f.File, []byte(own), 0o644)
}

// shareSettings gives a settings file what it has while its site shares code, and takes that away from one that does no more.
func (mk *maker) shareSettings(s kind.Settings) {
	for _, v := range mk.req.Kind.Tenants.Settings {
		switch was := mk.req.Replace != nil && mk.req.Replace.Shared != nil; {
		case mk.req.Shared != nil:
			s.Set(v.Setting, strings.ReplaceAll(v.Value, "{folder}", mk.plan.Folder))
		case v.Alone != nil && was && s.Has(v.Setting):
			s.Set(v.Setting, *v.Alone)
		}
	}
}

// Door is the link in shared code by which it finds the site of an address, relative to the host's files.
func Door(k *kind.Kind, s *Shared, address string) string {
	return path.Join(s.Folder, strings.ReplaceAll(k.Tenants.Door, "{host}", hostOf(address)))
}

// openDoor lets the shared code find the site. One that leads elsewhere is that of a site which is there no more.
func (mk *maker) openDoor(ctx context.Context) error {
	if mk.req.Shared == nil {
		return nil
	}
	fsys := mk.req.Plain
	if fsys == nil {
		fsys = mk.req.FS
	}
	door := Door(mk.req.Kind, mk.req.Shared, mk.plan.Address)
	target := away(path.Dir(door), path.Join(mk.req.Folder, mk.req.Kind.Tenants.To))
	if e, err := fsys.Stat(ctx, door); err == nil && e.Target == target {
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	// It is made under a name of the run's own first, so that the journal can say which link it is.
	fresh := Beside(door, mk.req.RunID)
	if err := mk.making(ctx, "staging", fresh, ""); err != nil {
		return err
	}
	if err := fsys.Symlink(ctx, target, fresh); err != nil {
		return err
	}
	id, err := fsys.ID(ctx, fresh)
	if err != nil {
		return err
	}
	if err := mk.making(ctx, "folder", door, id); err != nil {
		return err
	}
	return fsys.Rename(ctx, fresh, door)
}

// codeStage is where the code of the prepared site lies.
func (mk *maker) codeStage(ctx context.Context) (hostfs.FS, func(), error) {
	if mk.req.Shared == nil {
		return mk.stage, func() {}, nil
	}
	shared, err := mk.req.FS.Sub(ctx, mk.req.Shared.Folder)
	if err != nil {
		return nil, nil, err
	}
	return shared, func() { shared.Close() }, nil
}

// CodeRequest asks for the code of a release to be placed on a host, for sites to share. FS makes files that are the service's own:
// no program of a site is to change them.
type CodeRequest struct {
	Archive *archive.Archive
	Kind    *kind.Kind
	FS      hostfs.FS
	Folder  string
	All     string // the folder that all shared code of the host is in
	RunID   string
}

// Code is code that was placed.
type Code struct {
	Files int64
	Bytes int64
	Links []string // what of a tenant leads to it
}

// tree is the code of a release while it is placed, for sites to share. What is each site's own is found meanwhile: files in which the
// address or folder of the source stands, or which take a value of a client.
type tree struct {
	at  time.Time
	mu  sync.Mutex
	own []string
}

// CheckCode says why no sites can share the code of a release on a host; nil when they can. Errors: ErrPlan.
func CheckCode(ctx context.Context, req CodeRequest) error {
	m := &req.Archive.Manifest
	switch {
	case !req.Kind.Tenants.Can():
		return fmt.Errorf("%w: sites of %s do not share code: its definition does not say how (tenants)", ErrPlan, req.Kind.Title)
	case len(m.Origin.SubSites) > 0:
		return fmt.Errorf("%w: %s is a network of sites, whose sub-sites share code already; make sites of it that have their own", ErrPlan,
			m.Ref())
	case m.Totals.Files == 0:
		return fmt.Errorf("%w: %s holds a database only; choose a release with files", ErrPlan, m.Ref())
	case !hostfs.CanLink(req.FS):
		return fmt.Errorf("%w: sites that share code lead to it by links, and none can be made on this host the way its files are reached",
			ErrPlan)
	}
	if _, err := req.FS.Stat(ctx, req.Folder); !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(err, fmt.Errorf("%w: %s exists already", ErrPlan, path.Join(req.FS.Root(), req.Folder)))
	}
	return nil
}

// PlaceCode places the code of a release. On an error what it had made is taken away again. Errors: ErrPlan, ErrLeftBehind.
func PlaceCode(ctx context.Context, req CodeRequest, journal Journal, report progress.Reporter) (*Code, error) {
	if err := CheckCode(ctx, req); err != nil {
		return nil, err
	}
	m := &req.Archive.Manifest
	p := &Plan{Address: "http://tenant.invalid", Folder: "/tenant/invalid"}
	r, err := rewrite.New(rulesFor(m, p))
	if err != nil {
		return nil, err
	}
	mk := &maker{req: Request{Archive: req.Archive, Kind: req.Kind, FS: req.FS, Folder: req.Folder, RunID: req.RunID}, plan: p,
		journal: journal, report: report, rewriter: r, rowsLoaded: make(chan struct{}), result: &Result{}, tree: &tree{at: time.Now()}}
	close(mk.rowsLoaded)
	for _, f := range m.List.Fields {
		for _, t := range f.To {
			if t.Token != "" {
				mk.tokens = append(mk.tokens, token{field: f.Key, text: []byte(t.Token), files: t.Files})
			}
		}
	}
	if mk.code, err = codeOf(mk.req); err != nil {
		return nil, err
	}
	placed, err := mk.placeTree(ctx, req.All)
	mk.close()
	if err != nil {
		return nil, mk.takeBack(ctx, err)
	}
	return placed, nil
}

// placeProgram places the program of ours that lies beside shared code, for all of it.
func (mk *maker) placeProgram(ctx context.Context, all string) error {
	text, err := mk.req.Kind.Tenants.ProgramText()
	if err != nil || text == nil {
		return err
	}
	name := path.Join(all, mk.req.Kind.Tenants.Program)
	if there, err := hostfs.ReadFile(ctx, mk.req.FS, name, 1<<20); err == nil && bytes.Equal(there, text) {
		return nil
	}
	return hostfs.WriteFile(ctx, mk.req.FS, name, text, 0o644)
}

// placeBeside places what lies in each folder of shared code with certain files, unless the release has a file of the name there.
func (mk *maker) placeBeside(ctx context.Context, all string, paths []string) error {
	has := map[string]bool{}
	for _, p := range paths {
		has[p] = true
	}
	text := strings.NewReplacer("{code}", path.Join(mk.req.FS.Root(), all))
	for _, b := range mk.req.Kind.Tenants.Beside {
		for _, p := range paths {
			at := path.Join(path.Dir(p), b.File)
			if !strings.HasSuffix(p, b.For) || has[at] || !mk.code.brings(p) {
				continue
			}
			has[at] = true
			if err := hostfs.WriteFile(ctx, mk.stage, at, []byte(text.Replace(b.Text.Text)), 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

func (mk *maker) placeTree(ctx context.Context, all string) (*Code, error) {
	var paths []string
	out := &Code{}
	err := mk.req.Archive.Regular(func(f *zip.File, name string) error {
		paths = append(paths, name)
		if mk.code.brings(name) {
			out.Files++
			out.Bytes += int64(f.UncompressedSize64)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	mk.report.Step("Place the code", progress.Amount{Files: out.Files, Bytes: out.Bytes})
	if err := mk.placeFiles(ctx); err != nil {
		return nil, err
	}
	for _, f := range mk.req.Kind.Tenants.Code {
		if err := mk.discard(ctx, f.File); err != nil {
			return nil, err
		}
		if err := hostfs.WriteFile(ctx, mk.stage, f.File, []byte(f.Text), 0o644); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(mk.placeProgram(ctx, all), mk.placeBeside(ctx, all, paths)); err != nil {
		return nil, err
	}
	door := path.Dir(strings.ReplaceAll(mk.req.Kind.Tenants.Door, "{host}", "host"))
	if err := mk.stage.Mkdir(ctx, door, 0o755); err != nil {
		return nil, err
	}
	out.Links = mk.req.Kind.Shared(paths, mk.tree.own)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	id, err := mk.req.FS.ID(ctx, mk.staging)
	if err != nil {
		return nil, err
	}
	if err := mk.making(ctx, "folder", mk.req.Folder, id); err != nil {
		return nil, err
	}
	return out, mk.req.FS.Rename(ctx, mk.staging, mk.req.Folder)
}

// fill copies a file of shared code as it is, and notes when a site would have it otherwise.
func (mk *maker) fillShared(out io.Writer, r io.Reader, f *zip.File, by *placer) error {
	p := f.Name[len(archive.FilesDir):]
	head := make([]byte, min(8<<10, f.UncompressedSize64))
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	all, own := io.MultiReader(bytes.NewReader(head[:n]), r), false
	switch {
	case rewrite.IsWide(head[:n]) && f.UncompressedSize64 <= textBytes:
		text, err := io.ReadAll(all)
		if err != nil {
			return err
		}
		by.text = by.Wide(by.text[:0], text)
		own = !bytes.Equal(by.text, text)
		if _, err := out.Write(text); err != nil {
			return err
		}
	case rewrite.IsText(head[:n]):
		err := mk.rewriter.Chunks(all, func(chunk []byte) error {
			by.text = by.Text(by.text[:0], chunk)
			own = own || !bytes.Equal(by.text, chunk) || slices.ContainsFunc(mk.tokens, func(t token) bool {
				return t.matches(p) && bytes.Contains(chunk, t.text)
			})
			_, err := out.Write(chunk)
			return err
		})
		if err != nil {
			return err
		}
	default:
		if _, err := io.Copy(out, all); err != nil {
			return err
		}
	}
	if own {
		mk.tree.mu.Lock()
		defer mk.tree.mu.Unlock()
		mk.tree.own = append(mk.tree.own, p)
	}
	return nil
}

// sharedMode is the mode of what several sites share: all may read it, and only its owner change it.
func sharedMode(mode fs.FileMode) fs.FileMode {
	mode = mode.Perm()&^0o022 | 0o644
	if mode&0o111 != 0 {
		mode |= 0o111
	}
	return mode
}
