// Package agency is what the service knows of the agency itself: name, contact, colour and logo, which its clients see when a site is
// handed over.
package agency

import (
	"context"
	"net/http"
	"regexp"
	"slices"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
)

// Agency is that of the records.
type Agency struct{ DB *records.DB }

// MostLogo is how many bytes a logo may have: it is part of each page that shows it.
const MostLogo = 300 << 10

// Pictures are what a logo may be. A drawing in SVG could hold a program.
var Pictures = []string{"image/png", "image/jpeg", "image/webp", "image/gif"}

var colour = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

// Set replaces what is said of the agency; a logo that is nil stays as it is. Errors: input.ErrWrong.
func (svc *Agency) Set(ctx context.Context, who string, a records.Agency) error {
	if a.Colour != "" && !colour.MatchString(a.Colour) {
		return input.Wrongf("%q is not a colour like #1c6b4f", a.Colour)
	}
	if a.Logo == nil {
		was, err := svc.DB.Agency(ctx)
		if err != nil {
			return err
		}
		a.Logo = was.Logo
	}
	switch {
	case len(a.Logo) > MostLogo:
		return input.Wrongf("the logo has %d kB and may have %d; make it smaller", len(a.Logo)>>10, MostLogo>>10)
	case len(a.Logo) > 0 && !slices.Contains(Pictures, http.DetectContentType(a.Logo)):
		return input.Wrongf("the logo is no picture in PNG, JPEG, WebP or GIF")
	}
	if err := svc.DB.SetAgency(ctx, a); err != nil {
		return err
	}
	return svc.DB.Audit(ctx, who, "changed what clients see of the agency")
}
