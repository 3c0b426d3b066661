package client

import (
	"context"
	"net/http"
	"net/url"

	"nestseed/internal/wire"
)

// Installs lists installs.
func (c *Client) Installs(ctx context.Context) ([]wire.Install, error) {
	return get[[]wire.Install](ctx, c, "/installs")
}

// Install returns an install with its code and its sites.
func (c *Client) Install(ctx context.Context, name string) (wire.Install, error) {
	return get[wire.Install](ctx, c, "/installs/"+seg(name))
}

// AddInstall starts placing the code of a release on a host, for sites to share.
func (c *Client) AddInstall(ctx context.Context, n wire.NewInstall) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/installs", n)
}

// PlanInstallRefresh tells what bringing all sites of an install to the code of a release will do.
func (c *Client) PlanInstallRefresh(ctx context.Context, name string, n wire.NewInstallCode) (wire.InstallPlan, error) {
	return post[wire.InstallPlan](ctx, c, "/installs/"+seg(name)+"/refresh/plan", n)
}

// RefreshInstall starts bringing all sites of an install to the code of a release.
func (c *Client) RefreshInstall(ctx context.Context, name string, n wire.NewInstallCode) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/installs/"+seg(name)+"/refresh", n)
}

// PlanInstallUndo tells what bringing the sites of an install back to the code they had before will do.
func (c *Client) PlanInstallUndo(ctx context.Context, name string, n wire.NewInstallCode) (wire.InstallPlan, error) {
	return post[wire.InstallPlan](ctx, c, "/installs/"+seg(name)+"/undo/plan", n)
}

// UndoInstall starts bringing the sites of an install back to the code they had before.
func (c *Client) UndoInstall(ctx context.Context, name string, n wire.NewInstallCode) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/installs/"+seg(name)+"/undo", n)
}

// RemoveInstall starts removing code of an install that no site shares: that of a release, or, where none is named, all.
func (c *Client) RemoveInstall(ctx context.Context, name, release string) (run wire.Run, err error) {
	path := "/installs/" + seg(name)
	if release != "" {
		path += "?" + url.Values{"release": {release}}.Encode()
	}
	return run, c.do(ctx, http.MethodDelete, path, nil, &run)
}
