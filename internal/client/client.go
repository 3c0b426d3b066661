// Package client speaks the service's HTTP interface, for the command line and the tests.
//
//	c := client.New("http://127.0.0.1:8470", token)
//	run, err := c.BuildRelease(ctx, "music-base", wire.NewRelease{Note: "first"})
//	run, err = c.Wait(ctx, run.ID, nil)
//
// What the service refuses is a *Problem, with its status, its stable type and its sentence.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"nestseed/internal/wire"
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

// Me returns who the token belongs to.
func (c *Client) Me(ctx context.Context) (wire.Me, error) { return get[wire.Me](ctx, c, "/me") }

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, t wire.NewToken) (wire.Token, error) {
	return post[wire.Token](ctx, c, "/tokens", t)
}

// SetPassword changes a password.
func (c *Client) SetPassword(ctx context.Context, name string, p wire.NewPassword) error {
	return c.do(ctx, http.MethodPut, "/users/"+seg(name)+"/password", p, nil)
}

// Tokens lists one's own tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.TokenName, error) {
	return get[[]wire.TokenName](ctx, c, "/tokens")
}

// AddKind adds a kind.
func (c *Client) AddKind(ctx context.Context, k wire.NewKind) (wire.Kind, error) {
	return post[wire.Kind](ctx, c, "/kinds", k)
}

// DraftKind asks for a draft of a kind.
func (c *Client) DraftKind(ctx context.Context, d wire.NewDraft) (wire.KindDraft, error) {
	return post[wire.KindDraft](ctx, c, "/kinds/draft", d)
}

// CheckKind reads the definition of a kind and keeps nothing.
func (c *Client) CheckKind(ctx context.Context, k wire.NewKind) (wire.Kind, error) {
	return post[wire.Kind](ctx, c, "/kinds/check", k)
}

// Kind shows a kind.
func (c *Client) Kind(ctx context.Context, name string) (wire.Kind, error) {
	return get[wire.Kind](ctx, c, "/kinds/"+seg(name))
}

// Users lists users.
func (c *Client) Users(ctx context.Context) ([]wire.User, error) {
	return get[[]wire.User](ctx, c, "/users")
}

// AddUser makes a user.
func (c *Client) AddUser(ctx context.Context, u wire.NewUser) (wire.User, error) {
	return post[wire.User](ctx, c, "/users", u)
}

// Remove removes a thing: a host, source, starter, client, user or token.
func (c *Client) Remove(ctx context.Context, plural, name string) error {
	return c.do(ctx, http.MethodDelete, "/"+plural+"/"+seg(name), nil, nil)
}

// Today returns what there is and what needs attention.
func (c *Client) Today(ctx context.Context) (wire.Today, error) {
	return get[wire.Today](ctx, c, "/today")
}

// Kinds lists kinds.
func (c *Client) Kinds(ctx context.Context) ([]wire.Kind, error) {
	return get[[]wire.Kind](ctx, c, "/kinds")
}

// Hosts lists hosts.
func (c *Client) Hosts(ctx context.Context) ([]wire.Host, error) {
	return get[[]wire.Host](ctx, c, "/hosts")
}

// Host shows a host.
func (c *Client) Host(ctx context.Context, name string) (wire.Host, error) {
	return get[wire.Host](ctx, c, "/hosts/"+seg(name))
}

// AddHost makes a host.
func (c *Client) AddHost(ctx context.Context, h wire.NewHost) (wire.Host, error) {
	return post[wire.Host](ctx, c, "/hosts", h)
}

// ChangeHost changes a host; what is empty stays as it is.
func (c *Client) ChangeHost(ctx context.Context, name string, h wire.ChangedHost) (out wire.Host, err error) {
	return out, c.do(ctx, http.MethodPatch, "/hosts/"+seg(name), h, &out)
}

// TestHost asks a host for its facts.
func (c *Client) TestHost(ctx context.Context, name string) (wire.HostTest, error) {
	return post[wire.HostTest](ctx, c, "/hosts/"+seg(name)+"/test", nil)
}

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

// Starters lists starters.
func (c *Client) Starters(ctx context.Context) ([]wire.Starter, error) {
	return get[[]wire.Starter](ctx, c, "/starters")
}

// Starter shows a starter.
func (c *Client) Starter(ctx context.Context, name string) (wire.Starter, error) {
	return get[wire.Starter](ctx, c, "/starters/"+seg(name))
}

// CreateStarter makes a starter.
func (c *Client) CreateStarter(ctx context.Context, s wire.NewStarter) (wire.Starter, error) {
	return post[wire.Starter](ctx, c, "/starters", s)
}

// ChangeStarter changes what a starter is built from.
func (c *Client) ChangeStarter(ctx context.Context, name string, t wire.ChangedStarter) (out wire.Starter, err error) {
	return out, c.do(ctx, http.MethodPatch, "/starters/"+seg(name), t, &out)
}

// Packing shows a packing list.
func (c *Client) Packing(ctx context.Context, starter string) (wire.Packing, error) {
	return get[wire.Packing](ctx, c, "/starters/"+seg(starter)+"/packing")
}

// SetPacking replaces a packing list.
func (c *Client) SetPacking(ctx context.Context, starter, text string) (out wire.Packing, err error) {
	return out, c.do(ctx, http.MethodPut, "/starters/"+seg(starter)+"/packing", wire.PackingText{Text: text}, &out)
}

// EditPacking edits a packing list.
func (c *Client) EditPacking(ctx context.Context, starter string, e wire.ListEdit) (wire.Packing, error) {
	return post[wire.Packing](ctx, c, "/starters/"+seg(starter)+"/packing", e)
}

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

// Sample says whether there is a sample to begin with.
func (c *Client) Sample(ctx context.Context) (wire.SampleThere, error) {
	return get[wire.SampleThere](ctx, c, "/sample")
}

// TakeSample begins with it: what is returned is the survey of its site.
func (c *Client) TakeSample(ctx context.Context) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sample", nil)
}

// CompareReleases starts comparing.
func (c *Client) CompareReleases(ctx context.Context, n wire.NewComparison) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/comparisons", n)
}

// CompareFile says how the text of a file differs between two releases.
func (c *Client) CompareFile(ctx context.Context, from, to, path string) (wire.TextDelta, error) {
	return get[wire.TextDelta](ctx, c, "/releases/"+seg(from)+"/difference?"+url.Values{"to": {to}, "path": {path}}.Encode())
}

// SetRetention says which archives of a starter are kept.
func (c *Client) SetRetention(ctx context.Context, starter string, r wire.Retention) (out wire.Starter, err error) {
	return out, c.do(ctx, http.MethodPut, "/starters/"+seg(starter)+"/retention", r, &out)
}

// TryPacking says what a packing list would take, without keeping it.
func (c *Client) TryPacking(ctx context.Context, starter, text string) (wire.Packing, error) {
	return post[wire.Packing](ctx, c, "/starters/"+seg(starter)+"/packing/try", wire.PackingText{Text: text})
}

// ImportRelease starts importing a release.
func (c *Client) ImportRelease(ctx context.Context, starter string, n wire.NewImport) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/starters/"+seg(starter)+"/imports", n)
}

// CheckLink says what a link leads to.
func (c *Client) CheckLink(ctx context.Context, link string) (wire.LinkInfo, error) {
	return post[wire.LinkInfo](ctx, c, "/links/check", wire.LinkCheck{Link: link})
}

// TickTask ticks a launch task off, or puts it back.
func (c *Client) TickTask(ctx context.Context, site, key string, t wire.Tick) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(site)+"/tasks/"+seg(key), t, &out)
}

// AcceptCheck accepts what a check of a site warns of, until it finds something else.
func (c *Client) AcceptCheck(ctx context.Context, site string, a wire.Accept) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(site)+"/accepted", a, &out)
}

// UnacceptCheck accepts it no more.
func (c *Client) UnacceptCheck(ctx context.Context, site, check string) (out wire.Site, err error) {
	return out, c.do(ctx, http.MethodDelete, "/sites/"+seg(site)+"/accepted?"+url.Values{"what": {check}}.Encode(), nil, &out)
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

// Folders lists the folders in a folder of a host's files.
func (c *Client) Folders(ctx context.Context, host, path string) (wire.Folders, error) {
	return get[wire.Folders](ctx, c, "/hosts/"+seg(host)+"/folders?"+url.Values{"path": {path}}.Encode())
}

// SourceValues lists options and settings of a source that have the words, or the values inside one option.
func (c *Client) SourceValues(ctx context.Context, source, option, find string) (wire.SourceValues, error) {
	return get[wire.SourceValues](ctx, c, "/sources/"+seg(source)+"/values?"+url.Values{"option": {option}, "find": {find}}.Encode())
}

// Agency shows what clients see of the agency.
func (c *Client) Agency(ctx context.Context) (wire.Agency, error) {
	return get[wire.Agency](ctx, c, "/agency")
}

// SetAgency says what clients see of the agency.
func (c *Client) SetAgency(ctx context.Context, a wire.NewAgency) (out wire.Agency, err error) {
	return out, c.do(ctx, http.MethodPut, "/agency", a, &out)
}

// perPage is how many a page of a list has at the most.
const perPage = "1000"

// Clients lists all clients, page by page.
func (c *Client) Clients(ctx context.Context) (all []wire.ClientRow, err error) {
	all = []wire.ClientRow{}
	q := url.Values{"limit": {perPage}}
	for {
		page, err := get[wire.ClientPage](ctx, c, "/clients?"+q.Encode())
		all = append(all, page.Clients...)
		if err != nil || page.Next == "" {
			return all, err
		}
		q.Set("cursor", page.Next)
	}
}

// Client shows a client.
func (c *Client) Client(ctx context.Context, name string) (wire.Client, error) {
	return get[wire.Client](ctx, c, "/clients/"+seg(name))
}

// AddClient makes a client.
func (c *Client) AddClient(ctx context.Context, n wire.NewClient) (wire.Client, error) {
	return post[wire.Client](ctx, c, "/clients", n)
}

// SetClient sets settings of a client.
func (c *Client) SetClient(ctx context.Context, name string, s wire.Settings) (out wire.Client, err error) {
	return out, c.do(ctx, http.MethodPatch, "/clients/"+seg(name)+"/settings", s, &out)
}

// AddClientFile gives a client a picture or a file.
func (c *Client) AddClientFile(ctx context.Context, client, name string, content []byte) (out wire.ClientFile, err error) {
	return out, c.do(ctx, http.MethodPost, "/clients/"+seg(client)+"/files", wire.NewClientFile{Name: name, Content: content}, &out)
}

// SitesBy are conditions on the sites that are listed, and their order; what is empty leaves nothing out.
type SitesBy struct {
	Retired                                  bool
	State, Client, Host, Starter, Find, Sort string
}

// Sites lists all sites of which that is so, page by page.
func (c *Client) Sites(ctx context.Context, by SitesBy) (all []wire.SiteRow, err error) {
	all = []wire.SiteRow{}
	q := url.Values{"limit": {perPage}}
	for name, v := range map[string]string{"state": by.State, "client": by.Client, "host": by.Host, "starter": by.Starter, "find": by.Find,
		"sort": by.Sort} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if by.Retired {
		q.Set("retired", "true")
	}
	for {
		page, err := get[wire.SitePage](ctx, c, "/sites?"+q.Encode())
		all = append(all, page.Sites...)
		if err != nil || page.Next == "" {
			return all, err
		}
		q.Set("cursor", page.Next)
	}
}

// Site shows a site.
func (c *Client) Site(ctx context.Context, name string) (wire.Site, error) {
	return get[wire.Site](ctx, c, "/sites/"+seg(name))
}

// PlanSite makes a plan.
func (c *Client) PlanSite(ctx context.Context, s wire.NewSite) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/sites/plan", s)
}

// ProvisionSite starts making a site.
func (c *Client) ProvisionSite(ctx context.Context, s wire.NewSite) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites", s)
}

// CheckSite starts checking a site.
func (c *Client) CheckSite(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/check", nil)
}

// ProvisionTable starts the making of a site for each row.
func (c *Client) ProvisionTable(ctx context.Context, t wire.NewTable) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/table", t)
}

// PlanUndo tells what undoing the last provisioning of a site will do.
func (c *Client) PlanUndo(ctx context.Context, name string) (wire.UndoPlan, error) {
	return get[wire.UndoPlan](ctx, c, "/sites/"+seg(name)+"/undo")
}

// UndoSite starts undoing the last provisioning of a site.
func (c *Client) UndoSite(ctx context.Context, name, mark string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/undo", wire.Undo{Mark: mark})
}

// KeepCopy starts making a safety copy of a site.
func (c *Client) KeepCopy(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/copies", nil)
}

// PutBackCopy starts putting a safety copy back.
func (c *Client) PutBackCopy(ctx context.Context, name string, id int64) (wire.Run, error) {
	return post[wire.Run](ctx, c, fmt.Sprintf("/sites/%s/copies/%d/put-back", seg(name), id), nil)
}

// DropCopy removes a safety copy.
func (c *Client) DropCopy(ctx context.Context, name string, id int64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("/sites/%s/copies/%d", seg(name), id), nil, nil)
}

// RetireSite starts taking a site off its host.
func (c *Client) RetireSite(ctx context.Context, name string, noCopy bool) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/retire", wire.Retire{NoCopy: noCopy})
}

// HoldSite keeps visitors out of a site, or lets them in.
func (c *Client) HoldSite(ctx context.Context, name string, h wire.Held) (out wire.Held, err error) {
	return out, c.do(ctx, http.MethodPut, "/sites/"+seg(name)+"/held", h, &out)
}

// Vault lists secrets by name.
func (c *Client) Vault(ctx context.Context) ([]wire.Secret, error) {
	return get[[]wire.Secret](ctx, c, "/vault")
}

// Reveal reveals a secret.
func (c *Client) Reveal(ctx context.Context, r wire.Reveal) (string, error) {
	out, err := post[wire.Revealed](ctx, c, "/vault/reveal", r)
	return out.Secret, err
}

// Runs lists the newest runs.
func (c *Client) Runs(ctx context.Context, limit int) ([]wire.Run, error) {
	return get[[]wire.Run](ctx, c, fmt.Sprintf("/runs?limit=%d", limit))
}

// Run shows a run.
func (c *Client) Run(ctx context.Context, id int64) (wire.Run, error) {
	return get[wire.Run](ctx, c, fmt.Sprintf("/runs/%d", id))
}

// Log reads a run's log.
func (c *Client) Log(ctx context.Context, id int64) ([]wire.LogLine, error) {
	return get[[]wire.LogLine](ctx, c, fmt.Sprintf("/runs/%d/log", id))
}

// RetryRun starts a run that is over once more; a run that makes a site takes another release.
func (c *Client) RetryRun(ctx context.Context, id int64, in wire.Retry) (wire.Run, error) {
	return post[wire.Run](ctx, c, fmt.Sprintf("/runs/%d/retry", id), in)
}

// RunAhead tells the steps that a run has before it.
func (c *Client) RunAhead(ctx context.Context, id int64) (wire.Ahead, error) {
	return get[wire.Ahead](ctx, c, fmt.Sprintf("/runs/%d/ahead", id))
}

// CancelRun cancels a run.
func (c *Client) CancelRun(ctx context.Context, id int64) (wire.Run, error) {
	return post[wire.Run](ctx, c, fmt.Sprintf("/runs/%d/cancel", id), nil)
}

// Wait follows a run to its end and returns it; each, unless nil, is told of every change. A stream
// that breaks, as when the service is restarted, is taken up again.
func (c *Client) Wait(ctx context.Context, id int64, each func(wire.Run)) (wire.Run, error) {
	var last wire.Run
	for breaks := 0; ; breaks++ {
		run, err := c.follow(ctx, id, each)
		if err == nil && run.Ended() {
			return run, nil
		}
		var p *Problem
		if ctx.Err() != nil || errors.As(err, &p) && p.Status < 500 || breaks > 20 {
			if err == nil {
				err = errors.New("the run's events ended early")
			}
			return last, errors.Join(ctx.Err(), err)
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return last, ctx.Err()
		}
	}
}

func (c *Client) follow(ctx context.Context, id int64, each func(wire.Run)) (run wire.Run, err error) {
	res, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/events", id), nil, http.Header{"Accept": {"text/event-stream"}})
	if err != nil {
		return run, err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		run = wire.Run{}
		if err := json.Unmarshal([]byte(data), &run); err != nil {
			return run, err
		}
		if each != nil {
			each(run)
		}
	}
	return run, lines.Err()
}

// RotateKey seals every secret with a new key.
func (c *Client) RotateKey(ctx context.Context) (wire.Resealed, error) {
	return post[wire.Resealed](ctx, c, "/vault/rotate-key", nil)
}

// RotateSite starts giving a site new credentials.
func (c *Client) RotateSite(ctx context.Context, name string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/rotate", nil)
}

// PlanMove tells what moving a site will do.
func (c *Client) PlanMove(ctx context.Context, name string, m wire.Move) (wire.MovePlan, error) {
	return post[wire.MovePlan](ctx, c, "/sites/"+seg(name)+"/move/plan", m)
}

// MoveSite starts moving a site to another host.
func (c *Client) MoveSite(ctx context.Context, name string, m wire.Move) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/sites/"+seg(name)+"/move", m)
}
