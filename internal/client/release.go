package client

import (
	"context"
	"fmt"
	"net/url"

	"nestseed/internal/wire"
)

// BuildRelease starts a build.
func (c *Client) BuildRelease(ctx context.Context, starter string, r wire.NewRelease) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/starters/"+seg(starter)+"/releases", r)
}

// Releases lists releases; of one starter unless its name is empty.
func (c *Client) Releases(ctx context.Context, starter string) ([]wire.Release, error) {
	return get[[]wire.Release](ctx, c, "/releases?"+url.Values{"starter": {starter}}.Encode())
}

// Release shows a release.
func (c *Client) Release(ctx context.Context, ref string) (wire.Release, error) {
	return get[wire.Release](ctx, c, "/releases/"+seg(ref))
}

// VerifyRelease starts verifying.
func (c *Client) VerifyRelease(ctx context.Context, ref string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/releases/"+seg(ref)+"/verify", nil)
}

// DiscardArchive removes a release's archive and keeps its record.
func (c *Client) DiscardArchive(ctx context.Context, ref string) (wire.Release, error) {
	return post[wire.Release](ctx, c, "/releases/"+seg(ref)+"/discard-archive", nil)
}

// CompareReleases starts comparing.
func (c *Client) CompareReleases(ctx context.Context, n wire.NewComparison) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/comparisons", n)
}

// CompareFile says how the text of a file differs between two releases.
func (c *Client) CompareFile(ctx context.Context, from, to, path string) (wire.TextDelta, error) {
	return get[wire.TextDelta](ctx, c, "/releases/"+seg(from)+"/difference?"+url.Values{"to": {to}, "path": {path}}.Encode())
}

// ImportRelease starts importing a release.
func (c *Client) ImportRelease(ctx context.Context, starter string, n wire.NewImport) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/starters/"+seg(starter)+"/imports", n)
}

// CheckLink says what a link leads to.
func (c *Client) CheckLink(ctx context.Context, link string) (wire.LinkInfo, error) {
	return post[wire.LinkInfo](ctx, c, "/links/check", wire.LinkCheck{Link: link})
}

// Contents lists a folder of a release, or its largest files, or what a pattern finds.
func (c *Client) Contents(ctx context.Context, ref, path string, largest int, find string) (wire.Contents, error) {
	q := url.Values{"path": {path}}
	if largest > 0 {
		q.Set("largest", fmt.Sprint(largest))
	}
	if find != "" {
		q.Set("find", find)
	}
	return get[wire.Contents](ctx, c, "/releases/"+seg(ref)+"/contents?"+q.Encode())
}
