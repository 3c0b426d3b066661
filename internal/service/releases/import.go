package releases

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/fetch"
	"nestseed/internal/core/foreign"
	"nestseed/internal/core/hostfs/local"
	"nestseed/internal/core/intake"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
	"nestseed/internal/service/store"
)

// Given is a file that was uploaded, or a link to one.
type Given struct {
	Upload string `json:"upload,omitempty"`
	Name   string `json:"name,omitempty"`
	Link   string `json:"link,omitempty"`   // as withoutQuery writes it
	Sealed string `json:"sealed,omitempty"` // the whole link
}

const linkPurpose = "link of a release that is brought in"

// SealLink is a file that a link leads to. What may be a key in the link is not kept in the run's record.
func (svc *Releases) SealLink(link string) (g Given, err error) {
	g.Link = withoutQuery(link)
	g.Sealed, err = svc.Vault.Seal(linkPurpose, link)
	return g, err
}

// ImportArgs ask for a release to be imported. The key of a sealed archive is sealed by the vault meanwhile.
type ImportArgs struct {
	Starter   string  `json:"starter"`
	Files     []Given `json:"files"`
	Database  *Given  `json:"database,omitempty"`
	SealedKey string  `json:"sealed_key,omitempty"`
	List      string  `json:"list"` // stock packing list, for a starter that is new
	Note      string  `json:"note"`
	Trust     bool    `json:"trust"`
}

const keyPurpose = "key of an archive that is brought in"

// SealKey puts the key of a sealed archive into the arguments.
func (svc *Releases) SealKey(a *ImportArgs, key string) (err error) {
	if key != "" {
		a.SealedKey, err = svc.Vault.Seal(keyPurpose, key)
	}
	return err
}

// UploadsGroup is the store's group of files that people send, by the numbers tus gives them, each with a .info.
const UploadsGroup = "uploads"

func (svc *Releases) scratch(runID int64) string {
	return filepath.Join(svc.Data, "scratch", strconv.FormatInt(runID, 10))
}

// SweepScratch removes what runs that do not work any more have left, and uploads that nobody took.
func (svc *Releases) SweepScratch(ctx context.Context) error {
	entries, err := os.ReadDir(filepath.Join(svc.Data, "scratch"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	var errs []error
	for _, e := range entries {
		id, err := strconv.ParseInt(e.Name(), 10, 64)
		if err != nil {
			continue
		}
		idle, err := svc.DB.Idle(ctx, id)
		if err == nil && idle {
			err = os.RemoveAll(svc.scratch(id))
		}
		errs = append(errs, err)
	}
	return errors.Join(append(errs, svc.SweepUploads(ctx, time.Now()))...)
}

// uploadsStay is how long an upload is kept that nobody imports or goes on with.
const uploadsStay = 24 * time.Hour

// SweepUploads removes uploads that nobody has touched for a day.
func (svc *Releases) SweepUploads(ctx context.Context, now time.Time) error {
	files, err := svc.Stored.Store.List(ctx, UploadsGroup)
	if err != nil {
		return err
	}
	var old []string
	for _, f := range files {
		if now.Sub(f.At) > uploadsStay {
			old = append(old, f.Name)
		}
	}
	return svc.Stored.Store.RemoveAll(ctx, old...)
}

// FetchOptions say which links may be fetched: private addresses only where they belong to a host of ours.
func (svc *Releases) FetchOptions(ctx context.Context) (fetch.Options, error) {
	all, err := svc.DB.Hosts(ctx)
	if err != nil {
		return fetch.Options{}, err
	}
	free, err := freeBytes(svc.Data)
	if err != nil {
		return fetch.Options{}, err
	}
	return fetch.Options{MaxBytes: max(0, free-keptFree), Ours: func(hostport string) bool {
		return slices.ContainsFunc(all, func(h records.Host) bool { return hosts.Owns(h, hostport) })
	}}, nil
}

// keptFree is how many bytes of a disk are left free of what comes from outside.
const keptFree = 256 << 20

// MostUploadBytes is how large a file may be that somebody sends now.
func (svc *Releases) MostUploadBytes() (int64, error) {
	dir, err := svc.Stored.Store.Incoming(UploadsGroup)
	if err != nil {
		return 0, err
	}
	free, err := freeBytes(dir)
	return max(0, free-keptFree), err
}

// FreeBytes is the room that the service has of its own, for records, archives and uploads.
func (svc *Releases) FreeBytes() (int64, error) { return freeBytes(svc.Data) }

func freeBytes(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, fmt.Errorf("free space of %s: %w", dir, err)
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// ImportResult is the release that was imported.
type ImportResult struct {
	Release      string         `json:"release"`
	ArchiveBytes int64          `json:"archive_bytes"`
	Totals       archive.Totals `json:"totals"`
	Kind         string         `json:"kind"`
	Address      string         `json:"address"`
	Ours         bool           `json:"ours"` // it was an archive of a release already
	Notes        []string       `json:"notes,omitempty"`
}

// importer is one run of importing.
type importer struct {
	svc     *Releases
	run     engine.Run
	args    ImportArgs
	report  progress.Reporter
	dir     string
	pieces  []archive.Piece
	dump    *archive.Piece
	closers []io.Closer
}

// Import makes a release of archives and dumps that come from elsewhere.
func (svc *Releases) Import(ctx context.Context, run engine.Run, args ImportArgs, report progress.Reporter) (*ImportResult, error) {
	im := &importer{svc: svc, run: run, args: args, report: report, dir: svc.scratch(run.ID)}
	if err := os.RemoveAll(im.dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(im.dir, 0o700); err != nil {
		return nil, fmt.Errorf("scratch folder: %w", err)
	}
	defer os.RemoveAll(im.dir)
	defer func() {
		for _, c := range im.closers {
			c.Close()
		}
	}()
	if err := im.gather(ctx); err != nil {
		return nil, err
	}
	res, err := im.bring(ctx)
	if err != nil {
		return nil, err
	}
	// What was uploaded is a release now.
	for _, g := range append(slices.Clone(im.args.Files), im.databaseGiven()...) {
		if g.Upload != "" {
			if err := svc.Stored.Store.RemoveAll(ctx, UploadsGroup+"/"+g.Upload, UploadsGroup+"/"+g.Upload+".info"); err != nil {
				report.Note("the upload stays for a day: " + err.Error())
			}
		}
	}
	svc.retain(ctx, im.args.Starter, report)
	return res, nil
}

func (im *importer) databaseGiven() []Given {
	if im.args.Database == nil {
		return nil
	}
	return []Given{*im.args.Database}
}

// RecoverImport: what was unpacked is thrown away; uploads are still there, so it begins again.
func (svc *Releases) RecoverImport(ctx context.Context, run engine.Run, _ ImportArgs) (engine.Outcome, error) {
	if err := os.RemoveAll(svc.scratch(run.ID)); err != nil {
		return engine.Again, err
	}
	return svc.RecoverBuild(ctx, run, BuildArgs{})
}

// gather opens uploads and fetches links.
func (im *importer) gather(ctx context.Context) error {
	opts, err := im.svc.FetchOptions(ctx)
	if err != nil {
		return err
	}
	for i, g := range im.args.Files {
		p, err := im.piece(ctx, g, fmt.Sprintf("link-%d", i), opts)
		if err != nil {
			return err
		}
		im.pieces = append(im.pieces, p)
	}
	if im.args.Database != nil {
		p, err := im.piece(ctx, *im.args.Database, "database", opts)
		if err != nil {
			return err
		}
		im.dump = &p
	}
	return nil
}

func (im *importer) piece(ctx context.Context, g Given, as string, opts fetch.Options) (archive.Piece, error) {
	name := g.Name
	if g.Link == "" {
		f, size, err := im.svc.Stored.Store.Open(ctx, UploadsGroup+"/"+filepath.Base(g.Upload))
		if errors.Is(err, store.ErrNotFound) {
			return archive.Piece{}, fmt.Errorf("the upload %s is not there any more; send the file again", name)
		}
		if err != nil {
			return archive.Piece{}, err
		}
		im.closers = append(im.closers, f)
		return archive.Piece{Name: name, R: f, SizeBytes: size}, nil
	}
	link := g.Link
	if g.Sealed != "" {
		var err error
		if link, err = im.svc.Vault.Unseal(linkPurpose, g.Sealed); err != nil {
			return archive.Piece{}, err
		}
	}
	f, err := os.OpenFile(filepath.Join(im.dir, as), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return archive.Piece{}, err
	}
	im.closers = append(im.closers, f)
	fetched, n, err := fetch.Get(ctx, link, f, opts, im.report)
	if err != nil {
		return archive.Piece{}, fmt.Errorf("%s: %w", withoutQuery(g.Link), err)
	}
	im.report.Note(fmt.Sprintf("fetched %s, %s", fetched.Name, progress.SizeText(n)))
	if name == "" {
		name = fetched.Name
	}
	info, err := f.Stat()
	if err != nil {
		return archive.Piece{}, err
	}
	return archive.Piece{Name: name, R: f, SizeBytes: info.Size()}, nil
}

// withoutQuery is a link as it may be written into records and logs: host and file. An account, a folder, and what is behind a question
// mark may be keys.
func withoutQuery(link string) string {
	u, err := url.Parse(link)
	if err != nil || u.Host == "" {
		return "a link"
	}
	out := u.Scheme + "://" + u.Host + "/"
	if strings.Count(strings.Trim(u.Path, "/"), "/") > 0 {
		out += "…/"
	}
	return out + path.Base(u.Path)
}

// bring decides whether the files are an archive of a release or were made elsewhere.
func (im *importer) bring(ctx context.Context) (*ImportResult, error) {
	key := ""
	if im.args.SealedKey != "" {
		var err error
		if key, err = im.svc.Vault.Unseal(keyPurpose, im.args.SealedKey); err != nil {
			return nil, err
		}
	}
	pieces := im.pieces
	volumes := slices.ContainsFunc(pieces, func(p archive.Piece) bool { _, _, is := archive.IsVolume(p.Name); return is })
	if len(pieces) == 1 || volumes {
		if volumes {
			faults, err := archive.CheckVolumes(ctx, pieces)
			if err != nil {
				return nil, err
			}
			if len(faults) > 0 {
				return nil, fmt.Errorf("%w: %s %s", archive.ErrDamaged, faults[0].Entry, faults[0].What)
			}
		}
		a, whole, err := archive.OpenPieces(pieces, key)
		if err == nil {
			return im.ours(ctx, a, whole)
		}
		if !errors.Is(err, archive.ErrNotOurs) {
			return nil, err // what says that it is ours and is refused is nothing else either
		}
		if whole.R == nil {
			whole = pieces[0]
		}
		pieces = []archive.Piece{whole}
	}
	return im.elsewhere(ctx, pieces)
}

// ours takes an archive of a release over as it is, after every sum was checked.
func (im *importer) ours(ctx context.Context, a *archive.Archive, whole archive.Piece) (*ImportResult, error) {
	v, err := a.Verify(ctx, im.report)
	if err != nil {
		return nil, err
	}
	if len(v.Faults) > 0 {
		return nil, fmt.Errorf("%w: %s %s (%d faults); copy it again from where it came", archive.ErrDamaged, v.Faults[0].Entry,
			v.Faults[0].What, len(v.Faults))
	}
	if err := a.JudgeSQL(im.args.Trust); err != nil {
		return nil, err
	}
	k, err := im.svc.Kinds.Of(ctx, &a.Manifest)
	if err != nil {
		return nil, err
	}
	if err := a.CheckKind(k); err != nil {
		return nil, err
	}
	text, err := a.Manifest.List.Text()
	if err != nil {
		return nil, err
	}
	t, number, err := im.starter(ctx, k, string(text))
	if err != nil {
		return nil, err
	}
	built := &build.Result{Manifest: a.Manifest}
	if built.Index, err = contents.Index(a, k); err != nil {
		return nil, err
	}
	if built.SumsSHA256, err = a.Pinned(); err != nil {
		return nil, err
	}
	im.report.Step("Keep the archive", progress.Amount{Bytes: whole.SizeBytes})
	draft, err := im.svc.Stored.Store.Create(im.run.ID)
	if err != nil {
		return nil, err
	}
	defer draft.Drop()
	if _, err := io.Copy(io.NewOffsetWriter(draft, 0), &reporting{ctx, io.NewSectionReader(whole.R, 0, whole.SizeBytes),
		im.report}); err != nil {
		return nil, fmt.Errorf("keep the archive: %w", err)
	}
	from := fmt.Sprintf("%s (%s)", whole.Name, a.Manifest.Ref())
	return im.keep(ctx, t, number, draft, built, records.Release{ImportedFrom: from}, true)
}

// reporting tells what is read, and ends with its context.
type reporting struct {
	ctx    context.Context
	r      io.Reader
	report progress.Reporter
}

func (r *reporting) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := r.r.Read(p)
	r.report.Add(progress.Amount{Bytes: int64(n)})
	return n, err
}

// elsewhere makes a release of archives and dumps that were made by others.
func (im *importer) elsewhere(ctx context.Context, pieces []archive.Piece) (*ImportResult, error) {
	scratch, err := local.Open(im.dir)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	free, err := freeBytes(im.svc.Data)
	if err != nil {
		return nil, err
	}
	starter, err := im.svc.DB.Starter(ctx, im.args.Starter)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	all, err := im.svc.Kinds.All(ctx)
	if err != nil {
		return nil, err
	}
	in, err := intake.Open(ctx, intake.Input{Scratch: scratch, Files: pieces, Dump: im.dump, Kinds: all, Kind: starter.Kind,
		Limits: foreign.DefaultLimits(free)}, im.report)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	for _, n := range in.Notes {
		im.report.Note(n)
	}
	text, err := im.list(ctx, in.Identity.Kind)
	if err != nil {
		return nil, err
	}
	list, err := packing.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	if only := in.Only(); only != "" {
		list.Only = only
	}
	t, number, err := im.starter(ctx, in.Identity.Kind, text)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range append(slices.Clone(pieces), im.dumpPieces()...) {
		names = append(names, p.Name)
	}
	from := strings.Join(names, ", ")
	m := archive.Manifest{ID: rand.Text(), Starter: t.Name, Number: number, Made: time.Now().UTC().Truncate(time.Second), By: im.run.Who,
		Note:   im.args.Note,
		Source: from, Origin: archive.Origin{Address: in.Address, Also: in.Also[:min(len(in.Also), archive.MostAddresses)], WebRoot: in.WebRoot},
		Notes: slices.Clone(in.Notes)}
	draft, err := im.svc.Stored.Store.Create(im.run.ID)
	if err != nil {
		return nil, err
	}
	defer draft.Drop()
	built, err := build.Release(ctx, draft, build.Input{FS: in.FS, Root: in.Root, DB: in.DB(), Identity: in.Identity, List: list,
		Elsewhere: true, Manifest: m}, im.report)
	if err != nil {
		return nil, err
	}
	return im.keep(ctx, t, number, draft, built, records.Release{ImportedFrom: from}, false)
}

func (im *importer) dumpPieces() []archive.Piece {
	if im.dump == nil {
		return nil
	}
	return []archive.Piece{*im.dump}
}

// list returns the packing list: the starter's, or the stock list that was asked for.
func (im *importer) list(ctx context.Context, k *kind.Kind) (string, error) {
	t, err := im.svc.DB.Starter(ctx, im.args.Starter)
	if err == nil {
		return t.List, nil
	}
	if !errors.Is(err, records.ErrNotFound) {
		return "", err
	}
	name := im.args.List
	if name == "" {
		name = "starter"
	}
	text, ok := k.Lists[name]
	if !ok {
		return "", fmt.Errorf("%s has no stock list %q", k.Title, name)
	}
	return text, nil
}

// starter returns the starter and the number the release will have. One that is not there yet has no ID: it is
// made when the release is, so that nothing is left of an import that fails.
func (im *importer) starter(ctx context.Context, k *kind.Kind, list string) (records.Starter, int, error) {
	t, err := im.svc.DB.Starter(ctx, im.args.Starter)
	if errors.Is(err, records.ErrNotFound) {
		return records.Starter{Name: im.args.Starter, Kind: k.Name, List: list}, 1, nil
	}
	if err != nil {
		return t, 0, err
	}
	if t.Kind != k.Name {
		return t, 0, fmt.Errorf("starter %s is for sites of kind %s, and this is one of kind %s; name another starter", t.Name, t.Kind, k.Name)
	}
	number, err := im.svc.DB.NextNumber(ctx, t.ID)
	return t, number, err
}

func (im *importer) keep(ctx context.Context, t records.Starter, number int, draft *store.Draft, built *build.Result, r records.Release,
	isOurs bool) (*ImportResult, error) {
	ctx, err := im.svc.Engine.Commit(ctx, im.run)
	if err != nil {
		return nil, err
	}
	fresh := t.ID == 0
	if fresh {
		if t, err = im.svc.DB.AddStarter(ctx, t.Name, nil, t.Kind, t.List); err != nil {
			return nil, err
		}
	}
	r.StarterID, r.Starter, r.Number, r.RunID = t.ID, t.Name, number, &im.run.ID
	if err := im.svc.keepRelease(ctx, draft, built, r); err != nil {
		if fresh {
			err = errors.Join(err, im.svc.DB.RemoveStarter(ctx, t.Name))
		}
		return nil, err
	}
	kept, err := im.svc.DB.Release(ctx, r.Ref())
	m := built.Manifest
	return &ImportResult{Release: r.Ref(), ArchiveBytes: kept.ArchiveBytes, Totals: m.Totals, Kind: m.Kind, Address: m.Origin.Address,
		Ours: isOurs, Notes: m.Notes}, err
}
