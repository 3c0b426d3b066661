package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/contents"
	"nestseed/internal/core/sqltext"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/store"
	"nestseed/internal/wire"
)

func (a *api) releaseOut(r records.Release) wire.Release {
	m := r.Manifest
	title := m.Kind
	if k, err := a.Kinds.Named(context.Background(), m.Kind); err == nil {
		title = k.Title
	}
	return wire.Release{Ref: r.Ref(), Starter: r.Starter, Number: r.Number, Made: m.Made, By: m.By, Note: m.Note, Source: m.Source,
		KindTitle: title, Version: m.Version,
		ArchiveBytes: r.ArchiveBytes, SumsSHA256: r.SumsSha256, Kept: r.Archive != "", Totals: wire.ReleaseTotals(m.Totals),
		Areas: as[[]wire.AreaTotal](m.Areas), VerifiedAt: r.VerifiedAt, Faults: r.Faults,
		Sites: r.Sites, BeforeBytes: r.BeforeBytes, RunID: r.RunID, ImportedFrom: r.ImportedFrom, Difference: as[*wire.Difference](r.Difference),
		DiscardedAt: r.DiscardedAt, DiscardedWhy: r.DiscardedWhy}
}

// Referred is a request for one release.
type Referred struct {
	Ref string `path:"ref" doc:"like music-base@3, or music-base for the newest"`
}

func (a *api) releaseOperations(h huma.API) {
	operation(h, "GET", "/releases", "list-releases", "List releases, newest first", func(ctx context.Context, in *struct {
		Starter string `query:"starter"`
	}) (*body[[]wire.Release], error) {
		if in.Starter != "" {
			if _, err := a.db.Starter(ctx, in.Starter); err != nil {
				return nil, err
			}
		}
		releases, err := a.db.Releases(ctx, in.Starter)
		return list(releases, err, a.releaseOut)
	})
	operation(h, "GET", "/releases/{ref}", "show-release", "Show a release with its manifest",
		func(ctx context.Context, in *Referred) (*body[wire.Release], error) {
			r, err := a.db.Release(ctx, in.Ref)
			return single(r, err, func(r records.Release) wire.Release {
				out := a.releaseOut(r)
				out.Manifest = as[*wire.Manifest](r.Manifest)
				return out
			})
		})
	operation(h, "POST", "/releases/{ref}/verify", "verify-release", "Start verifying a release",
		func(ctx context.Context, in *Referred) (*begun, error) {
			r, err := a.db.Release(ctx, in.Ref)
			if err != nil {
				return nil, err
			}
			return a.start(ctx, records.Run{Job: "verify", Title: "Verify " + r.Ref(), Target: engine.Target("release", r.Ref())},
				releases.VerifyArgs{ReleaseID: r.ID})
		})
	operation(h, "POST", "/releases/{ref}/discard-archive", "discard-archive", "Remove a release's archive and keep its record",
		func(ctx context.Context, in *Referred) (*body[wire.Release], error) {
			r, err := a.db.Release(ctx, in.Ref)
			if err != nil {
				return nil, err
			}
			freed, err := a.Releases.Discard(ctx, r, "by "+who(ctx).Name)
			if err != nil {
				return nil, err
			}
			if err := a.db.Audit(ctx, who(ctx).Name, "discarded the archive of "+r.Ref()); err != nil {
				return nil, err
			}
			r, err = a.db.Release(ctx, r.Ref())
			out, err := single(r, err, a.releaseOut)
			if err == nil {
				out.Body.FreedBytes = &freed
			}
			return out, err
		})
	a.comparisonOperations(h)
	a.contentsOperations(h)
}

func (a *api) comparisonOperations(h huma.API) {
	operation(h, "POST", "/comparisons", "compare-releases", "Start comparing a release with another, or with its source today",
		func(ctx context.Context, in *Put[wire.NewComparison]) (*begun, error) {
			from, err := a.db.Release(ctx, in.Body.From)
			if err != nil {
				return nil, err
			}
			title := "Compare " + from.Ref() + " with its source"
			args := releases.CompareArgs{From: from.Ref(), ToSource: in.Body.ToSource}
			if !in.Body.ToSource {
				to, err := a.db.Release(ctx, in.Body.To)
				if err != nil {
					return nil, err
				}
				args.To, title = to.Ref(), "Compare "+from.Ref()+" with "+to.Ref()
			}
			return a.start(ctx, records.Run{Job: "compare", Title: title, Target: engine.Target("comparison", args.From+" "+args.To)}, args)
		})
	operation(h, "GET", "/comparisons/{id}", "show-comparison", "Show what a comparison found, by the number of its run",
		func(ctx context.Context, in *Numbered) (*body[*wire.Comparison], error) {
			r, err := a.db.Run(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			if r.Job != "compare" || r.Status != records.Done {
				return nil, fmt.Errorf("run %d is no comparison that is done: %w", in.ID, records.ErrNotFound)
			}
			out := &wire.Comparison{}
			return &body[*wire.Comparison]{out}, json.Unmarshal(r.Result, out)
		})
	operation(h, "GET", "/releases/{ref}/difference", "compare-file",
		"How the text of a file differs from that of another release", a.compareText)
}

// compareText compares a file of two releases. Settings that were blanked are blank in both.
func (a *api) compareText(ctx context.Context, in *struct {
	Referred
	To   string `query:"to" required:"true" doc:"the release that is compared with it"`
	Path string `query:"path" required:"true"`
}) (*body[*wire.TextDelta], error) {
	from, err := a.db.Release(ctx, in.Ref)
	if err != nil {
		return nil, err
	}
	to, err := a.db.Release(ctx, in.To)
	if err != nil {
		return nil, err
	}
	before, err := a.archives.get(ctx, from)
	if err != nil {
		return nil, err
	}
	after, err := a.archives.get(ctx, to)
	if err != nil {
		return nil, err
	}
	d, err := contents.CompareText(before, after, in.Path)
	return &body[*wire.TextDelta]{as[*wire.TextDelta](d)}, err
}

// contentsOperations look into an archive.
func (a *api) contentsOperations(h huma.API) {
	operation(h, "GET", "/releases/{ref}/volumes", "list-volumes", "List the pieces that an archive is cut into",
		func(ctx context.Context, in *struct {
			Referred
			Size int64 `query:"size" minimum:"65536" required:"true" doc:"bytes of each"`
		}) (*body[[]wire.Volume], error) {
			r, err := a.db.Release(ctx, in.Ref)
			if err != nil {
				return nil, err
			}
			if r.Archive == "" {
				return nil, fmt.Errorf("%w: %s", releases.ErrDiscarded, r.Ref())
			}
			return &body[[]wire.Volume]{volumesOf(r, in.Size)}, nil
		})
	operation(h, "GET", "/releases/{ref}/contents", "release-contents", "List a folder, the largest files, or what matches a pattern",
		a.listContents)
	operation(h, "GET", "/releases/{ref}/rows", "release-rows", "The first rows of a table of a release", a.firstRows)
	operation(h, "GET", "/releases/{ref}/map", "release-map", "Sizes by folder down to a depth, for a size map",
		func(ctx context.Context, in *struct {
			Referred
			Path  string `query:"path"`
			Depth int    `query:"depth" default:"4" minimum:"1" maximum:"8"`
		}) (*body[*wire.MapNode], error) {
			_, of, err := a.contentsOf(ctx, in.Ref)
			if err != nil {
				return nil, err
			}
			m, err := of.Map(in.Path, in.Depth)
			return &body[*wire.MapNode]{as[*wire.MapNode](m)}, err
		})
}

// Bounds of what is shown of a row.
const (
	shownCell = 400 // bytes
	shownRows = 200
)

var errEnough = errors.New("enough rows")

// firstRows reads the first rows of a table, as they were packed: what was blanked is blank.
func (a *api) firstRows(ctx context.Context, in *struct {
	Referred
	Table string `query:"table" required:"true"`
	Limit int    `query:"limit" default:"50" minimum:"1"`
}) (*body[wire.TableRows], error) {
	r, err := a.db.Release(ctx, in.Ref)
	if err != nil {
		return nil, err
	}
	ar, err := a.archives.get(ctx, r)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(ar.Manifest.Tables, func(t archive.TableTotal) bool { return t.Name == in.Table })
	if at < 0 {
		return nil, fmt.Errorf("release %s has no table %q: %w", r.Ref(), in.Table, records.ErrNotFound)
	}
	t := ar.Manifest.Tables[at]
	out := wire.TableRows{Columns: []string{}, Rows: [][]*string{}, All: t.Rows}
	err = ar.EachRow(ctx, t, func(columns []string, row []sqltext.Literal) error {
		if len(out.Rows) == min(in.Limit, shownRows) {
			return errEnough
		}
		out.Columns = columns
		cells := make([]*string, len(row))
		for i, l := range row {
			if !l.IsNull() {
				cells[i] = new(shownValue(l))
			}
		}
		out.Rows = append(out.Rows, cells)
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return &body[wire.TableRows]{out}, err
}

// shownValue is a value as text, cut where it is long; bytes that are no text are counted.
func shownValue(l sqltext.Literal) string {
	v, err := l.AppendValue(nil)
	switch {
	case err != nil:
		return string(l)
	case !utf8.Valid(v):
		return fmt.Sprintf("%d bytes", len(v))
	case len(v) > shownCell:
		return strings.ToValidUTF8(string(v[:shownCell]), "") + "…"
	}
	return string(v)
}

func (a *api) listContents(ctx context.Context, in *struct {
	Referred
	Path    string `query:"path"`
	Largest int    `query:"largest" maximum:"10000"`
	Find    string `query:"find" doc:"a pattern of names, or of paths where it has a slash"`
	Words   string `query:"words" maxLength:"400" doc:"a part of names, in any case"`
	Limit   int    `query:"limit" default:"1000" maximum:"100000"`
}) (*body[wire.Contents], error) {
	r, of, err := a.contentsOf(ctx, in.Ref)
	if err != nil {
		return nil, err
	}
	var found *contents.Listing
	switch {
	case in.Largest > 0:
		found, err = of.Largest(in.Path, in.Largest)
	case in.Words != "":
		found, err = of.Words(in.Path, in.Words, in.Limit)
	case in.Find != "":
		if found, err = of.Find(in.Path, in.Find, in.Limit); errors.Is(err, contents.ErrPattern) {
			err = input.Wrong(err)
		}
	default:
		found, err = of.Children(in.Path, in.Limit)
	}
	if err != nil {
		return nil, err
	}
	return &body[wire.Contents]{wire.Contents{Ref: r.Ref(), Path: in.Path, Bytes: found.Bytes, Nodes: as[[]*wire.Node](found.Nodes)}}, nil
}

func (a *api) contentsOf(ctx context.Context, ref string) (records.Release, *contents.Contents, error) {
	r, err := a.db.Release(ctx, ref)
	if err != nil {
		return r, nil, err
	}
	c, err := a.contents.get(ctx, r)
	return r, c, err
}

// download serves an archive, whole or by ranges (RFC 9110 section 14), with its sum as entity tag.
func (a *api) download(c *gin.Context) {
	r, err := a.db.Release(c, c.Param("ref"))
	if err != nil {
		refuseError(c, err)
		return
	}
	f, _, ok := a.openStored(c, r)
	if !ok {
		return
	}
	defer f.Close()
	c.Header("Content-Type", "application/zip")
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%d.zip"`, r.Starter, r.Number))
	c.Header("ETag", `"`+r.SumsSha256+`"`)
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, f)
}

// openStored opens a release's archive as it lies in the store, or refuses.
func (a *api) openStored(c *gin.Context, r records.Release) (store.File, int64, bool) {
	if r.Archive == "" {
		refuseError(c, fmt.Errorf("%w: %s; only its record is left", releases.ErrDiscarded, r.Ref()))
		return nil, 0, false
	}
	f, size, err := a.Releases.Stored.Store.Open(c.Request.Context(), r.Archive)
	if err != nil {
		refuseError(c, err)
		return nil, 0, false
	}
	return f, size, true
}

// oneFile serves one file from within an archive.
func (a *api) oneFile(c *gin.Context) {
	r, err := a.db.Release(c, c.Param("ref"))
	if err != nil {
		refuseError(c, err)
		return
	}
	ar, err := a.archives.get(c.Request.Context(), r)
	if err != nil {
		refuseError(c, err)
		return
	}
	p := c.Query("path")
	f, err := ar.File(archive.FilesDir + p)
	if err != nil {
		refuseError(c, err)
		return
	}
	defer f.Close()
	serveInert(c, f, path.Base(p))
}

// serveInert serves what somebody has made elsewhere. Nothing of it is run: text is text, pictures are pictures, and everything else is a
// download.
func serveInert(c *gin.Context, f io.Reader, name string) {
	c.Header("Content-Security-Policy", "sandbox; default-src 'none'")
	head := make([]byte, 512)
	n, _ := io.ReadFull(f, head)
	sniffed := http.DetectContentType(head[:n])
	switch sniffed {
	case "image/png", "image/jpeg", "image/gif", "image/webp":
		c.Header("Content-Type", sniffed)
	case "text/plain; charset=utf-8", "text/html; charset=utf-8", "text/xml; charset=utf-8":
		c.Header("Content-Type", "text/plain; charset=utf-8")
	default:
		c.Header("Content-Type", "application/octet-stream")
		c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
	}
	c.Status(http.StatusOK)
	c.Writer.Write(head[:n])
	io.Copy(c.Writer, f)
}
