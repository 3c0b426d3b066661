package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sites"
	"nestseed/internal/wire"
)

func (a *api) sideBySideOperations(h huma.API) {
	operation(h, "POST", "/sites/{name}/side-by-side", "take-screenshots", "Start taking screenshots of pages of a site beside its source's",
		func(ctx context.Context, in *struct {
			Named
			Put[wire.Screenshots]
		}) (*begun, error) {
			s, err := a.db.Site(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return a.start(ctx, records.Run{Job: "screenshots", Title: "Take screenshots of " + s.Name + " beside its source",
				Target: engine.Target("site", s.Name)}, sites.SideBySideArgs{Site: s.Name, Pages: cmp.Or(in.Body.Pages, screenshotPages)})
		})
	operation(h, "GET", "/sites/{name}/side-by-side", "side-by-side", "The screenshots of a site beside its source",
		func(ctx context.Context, in *Named) (*body[wire.SideBySide], error) {
			s, err := a.db.Site(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			seen, err := a.db.SideBySideOf(ctx, s.ID)
			if err == nil && seen == nil {
				err = fmt.Errorf("site %s has no screenshots beside its source yet: %w; have them taken first", s.Name, records.ErrNotFound)
			}
			if err != nil {
				return nil, err
			}
			return &body[wire.SideBySide]{as[wire.SideBySide](*seen)}, nil
		})
}

// screenshotPages is how many pages screenshots are taken of unless somebody says.
const screenshotPages = 6

// picture sends one picture of a site beside its source.
func (a *api) picture(c *gin.Context) {
	s, err := a.db.Site(c, c.Param("name"))
	if err != nil {
		refuseError(c, err)
		return
	}
	f, at, err := a.Sites.Screenshot(c, s, c.Param("file"))
	if err != nil {
		refuseError(c, err)
		return
	}
	defer f.Close()
	c.Header("Content-Type", "image/png")
	http.ServeContent(c.Writer, c.Request, "", at, f)
}
