package client

import (
	"context"
	"net/http"
	"net/url"

	"nestseed/internal/wire"
)

// Sources lists sources.
func (c *Client) Sources(ctx context.Context) ([]wire.Source, error) {
	return get[[]wire.Source](ctx, c, "/sources")
}

// Source shows a source with its survey.
func (c *Client) Source(ctx context.Context, name string) (wire.Source, error) {
	return get[wire.Source](ctx, c, "/sources/"+seg(name))
}

// AddSource makes a source.
func (c *Client) AddSource(ctx context.Context, s wire.NewSource) (wire.Source, error) {
	return post[wire.Source](ctx, c, "/sources", s)
}

// ChangeSource changes where a source is read; what is empty stays as it is.
func (c *Client) ChangeSource(ctx context.Context, name string, s wire.ChangedSource) (out wire.Source, err error) {
	return out, c.do(ctx, http.MethodPatch, "/sources/"+seg(name), s, &out)
}

// SurveySource starts a survey.
func (c *Client) SurveySource(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sources/"+seg(name)+"/survey", nil)
}

// Sample says whether there is a sample to begin with.
func (c *Client) Sample(ctx context.Context) (wire.SampleThere, error) {
	return get[wire.SampleThere](ctx, c, "/sample")
}

// TakeSample begins with it: what is returned is the survey of its site.
func (c *Client) TakeSample(ctx context.Context) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sample", nil)
}

// AcceptFinding accepts a finding of a source.
func (c *Client) AcceptFinding(ctx context.Context, source string, a wire.Accept) (out wire.Source, err error) {
	return out, c.do(ctx, http.MethodPut, "/sources/"+seg(source)+"/accepted", a, &out)
}

// UnacceptFinding accepts it no more.
func (c *Client) UnacceptFinding(ctx context.Context, source, what, where string) (out wire.Source, err error) {
	q := url.Values{"what": {what}, "where": {where}}.Encode()
	return out, c.do(ctx, http.MethodDelete, "/sources/"+seg(source)+"/accepted?"+q, nil, &out)
}

// SourceValues lists options and settings of a source that have the words, or the values inside one option.
func (c *Client) SourceValues(ctx context.Context, source, option, find string) (wire.SourceValues, error) {
	return get[wire.SourceValues](ctx, c, "/sources/"+seg(source)+"/values?"+url.Values{"option": {option}, "find": {find}}.Encode())
}
