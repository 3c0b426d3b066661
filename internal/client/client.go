// Package client speaks the service's HTTP interface, for the command line and the tests.
//
//	c := client.New("http://127.0.0.1:8470", token)
//	run, err := c.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "first"})
//	run, err = c.Wait(ctx, run.ID, nil)
//
// What the service refuses is a *Problem, with its status, its stable type and its sentence.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
)

// Client is a connection to a service.
type Client struct {
	server string
	token  string
	http   *http.Client
}

// New returns a client of a service.
func New(server, token string) *Client {
	return &Client{server: strings.TrimRight(server, "/"), token: token, http: &http.Client{}}
}

// Address returns where the service is.
func (c *Client) Address() string { return c.server }

// Problem is a problem document (RFC 9457).
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

// Error returns the sentence.
func (p *Problem) Error() string {
	if len(p.Errors) == 0 {
		return p.Detail
	}
	parts := make([]string, len(p.Errors))
	for i, e := range p.Errors {
		parts[i] = strings.TrimPrefix(e.Location, "body.") + ": " + e.Message
	}
	return p.Detail + ": " + strings.Join(parts, "; ")
}

// do sends a request; in and out are JSON, or nil.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var send io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		send = bytes.NewReader(text)
	}
	res, err := c.send(ctx, method, path, send, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil || res.StatusCode == http.StatusNoContent {
		return nil
	}
	return json.NewDecoder(res.Body).Decode(out)
}

// send returns an answer that is not a problem.
func (c *Client) send(ctx context.Context, method, path string, body io.Reader, header http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.server+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if body != nil && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		var op interface{ Timeout() bool }
		if errors.As(err, &op) && ctx.Err() == nil {
			return nil, fmt.Errorf("no service answers at %s; start it with nestseed serve, or name another with --server", c.server)
		}
		return nil, err
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close()
	p := &Problem{Status: res.StatusCode, Title: res.Status, Detail: res.Status}
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err == nil {
		err = json.Unmarshal(text, p)
	}
	if err != nil {
		p.Detail = fmt.Sprintf("%s answered %s", c.server, res.Status)
		// The tus protocol answers errors as one line of text: a code, a colon and a sentence.
		if _, sentence, is := strings.Cut(string(text), ": "); is && strings.HasPrefix(string(text), "ERR_") {
			p.Detail = strings.TrimSpace(sentence)
		}
	}
	return nil, p
}

func get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	return out, c.do(ctx, http.MethodGet, path, nil, &out)
}

func post[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	return out, c.do(ctx, http.MethodPost, path, in, &out)
}

func seg(s string) string { return url.PathEscape(s) }

// Remove removes a thing: a host, source, starter, client, user or token.
func (c *Client) Remove(ctx context.Context, plural, name string) error {
	return c.do(ctx, http.MethodDelete, "/"+plural+"/"+seg(name), nil, nil)
}

// perPage is how many a page of a list has at the most.
const perPage = "1000"
