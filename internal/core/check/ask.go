package check

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitepage"
)

// told is what a site says of itself: which database it works on and as whom, and whether its mail is kept from going out.
type told struct {
	Database string   `json:"database"`
	User     string   `json:"user"`
	Links    []string `json:"links"` // that it writes into mails and pages
	Mail     struct {
		Kept bool   `json:"kept"`
		Why  string `json:"why"`
	} `json:"mail"`
}

// ErrNotTold says that a site did not answer the page that was placed in it.
var ErrNotTold = errors.New("the site did not answer")

// ask places the kind's page for a question in a site's folder, asks it with a signed request, and removes it. The page answers this
// question alone, to whoever has the key that it was made with, and signs the answer with it. Errors: ErrNotTold.
func ask(ctx context.Context, report kind.Report, spot sitepage.Spot, what string, get func(ctx context.Context, page string) (int, []byte,
	error),
	answer any) (err error) {
	key := rand.Text()
	p, err := spot.Place(ctx, path.Ext(report.File), 0o644, func(string) []byte {
		until := strconv.FormatInt(time.Now().Add(sitepage.Silent).Unix(), 10)
		return []byte(strings.NewReplacer("{key}", key, "{what}", what, "{until}", until).Replace(report.Text))
	})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, p.Remove(ctx)) }()
	at := strconv.FormatInt(time.Now().Unix(), 10)
	query := url.Values{"at": {at}, "by": {signed(key, at+" "+what)}}
	status, body, err := get(ctx, p.Name+"?"+query.Encode())
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNotTold, err)
	}
	// A site may print something of its own before.
	for _, where := range signedForm.FindAllIndex(body, answersRead) {
		var text json.RawMessage
		from := where[1] - len("{")
		if json.NewDecoder(bytes.NewReader(body[from:])).Decode(&text) == nil &&
			hmac.Equal(body[where[0]:from-1], []byte(signed(key, at+" "+what+" "+string(text)))) {
			return json.Unmarshal(text, answer)
		}
	}
	return fmt.Errorf("%w: what came was %d %s, and not from the page that was asked", ErrNotTold, status, http.StatusText(status))
}

// signedForm is how a signed answer begins, and answersRead how many that look so are read.
var signedForm = regexp.MustCompile(`[0-9a-f]{64} \{`)

const answersRead = 8

func signed(key, text string) string {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(text))
	return hex.EncodeToString(mac.Sum(nil))
}

// Connection is how a site reaches its database, as it says itself.
type Connection struct {
	Engine, Host, Name, User, Password, Prefix string // Engine is "" where all sites of the kind have the same
}

// AskConnection asks a site how it reaches its database: for sites whose settings are computed. It places a page in the site's folder
// and takes it away again. What it tells is secret, so that it is asked by TLS, or on this machine. Errors: ErrNotTold.
func AskConnection(ctx context.Context, k *kind.Kind, spot sitepage.Spot, at Reach) (*Connection, error) {
	if k.Report.Text == "" {
		return nil, fmt.Errorf("%w: %s sites have no page for that", ErrNotTold, k.Title)
	}
	if err := at.secret(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotTold, err)
	}
	out := &Connection{}
	err := ask(ctx, k.Report, spot, "connection", func(ctx context.Context, page string) (int, []byte,
		error) {
		return Visit(ctx, at, page)
	}, out)
	return out, err
}

// secret says why what is sent to a site and comes from there is not secret on the way.
func (r Reach) secret() error {
	u, err := url.Parse(r.Address)
	if err != nil {
		return err
	}
	host := u.Hostname()
	if r.Connect != "" {
		host, _, _ = strings.Cut(r.Connect, ":")
	}
	if ip := net.ParseIP(host); u.Scheme != "https" && host != "localhost" && !strings.HasSuffix(host, ".localhost") &&
		(ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("the password would travel to %s without encryption; give an https address", host)
	}
	return nil
}

// Sender returns what sends a body to a page of a site, for as long as that takes. What is sent is secret, so it goes by TLS, or on this
// machine.
func Sender(at Reach) (func(ctx context.Context, page string, body []byte) (*http.Response, error), error) {
	base, err := url.Parse(at.Address)
	if err == nil {
		err = at.secret()
	}
	if err != nil {
		return nil, err
	}
	client := client(at.Dialer(base), nil)
	client.Timeout = 0
	return func(ctx context.Context, page string, body []byte) (*http.Response, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, at.Address+"/"+page, bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Content-Type", "application/octet-stream")
		return client.Do(req)
	}, nil
}

// checkTold asks the site which database it works on and whether mail goes out, and judges both by what it says. Pages of ours that are
// old are removed.
func (r *runner) checkTold(ctx context.Context, old []string) {
	if r.site.Kind.Report.Text == "" || r.site.AsItIs {
		return
	}
	t := &told{}
	spot := sitepage.Spot{Folder: r.folder, Journal: r.site.Pages}
	err := ask(ctx, r.site.Kind.Report, spot, "state", func(ctx context.Context, page string) (int, []byte, error) {
		res, body, err := r.get(ctx, r.base.String()+"/"+page)
		if err != nil {
			return 0, nil, err
		}
		return res.StatusCode, body, nil
	}, t)
	for _, page := range old { // that no journal names any more
		err = errors.Join(err, r.folder.RemoveAll(context.WithoutCancel(ctx), page))
	}
	if err != nil {
		r.record(Check{Name: "own database", Result: Warn,
			Sentence: "the site did not tell which database it works on, and whether mail goes out",
			Evidence: []string{err.Error()}, Remedy: "open it in a browser and look at the server's error log; check again when it works"})
		return
	}
	r.runs = path.Ext(r.site.Kind.Report.File)
	user, _, _ := strings.Cut(t.User, "@")
	own := t.Database == r.site.Database && user == r.site.User
	if r.site.Kind.Settings.Database.File != "" && r.site.User == "" { // a file, by its path below the host's folder
		own = strings.HasSuffix(t.Database, "/"+r.site.Database)
	}
	if r.site.Database != "" && !own {
		r.record(Check{Name: "own database", Result: Fail,
			Sentence: fmt.Sprintf("the site works on the database %s as %s, and its own is %s, as %s",
				t.Database, user, r.site.Database, r.site.User), Evidence: []string{"as the site itself says"},
			Remedy: "do not use it: what is changed there is changed on another site; see what sets the database in its settings file"})
	} else {
		r.record(Check{Name: "own database", Result: Pass, Sentence: "the site works on its own database, " + t.Database + ", as it says itself"})
	}
	r.links(t)
	r.mail(t)
}

// links judges where the links lead that the site writes into its mails.
func (r *runner) links(t *told) {
	if len(t.Links) == 0 || len(r.traces.list) == 0 {
		return
	}
	var old tally
	for _, l := range t.Links {
		r.traces.in([]byte(l), func(f found) { old.add("link", f) })
	}
	old.record(r, "links in mails", fmt.Sprintf("the %d links that the site writes into mails and pages lead to itself", len(t.Links)),
		"links in mails would lead to the address that the site came from",
		"look for the old address in the settings file, and in what filters links")
}

// mail tells whether mail goes out, by what the site says, and warns when that is not as it was asked.
func (r *runner) mail(t *told) {
	if !r.site.Kind.Mail.Can() {
		return
	}
	state := map[bool]string{true: "kept from going out", false: "let out"}
	if t.Mail.Kept == r.site.Quiet {
		r.record(Check{Name: "mail", Result: Pass, Sentence: "mail is " + state[r.site.Quiet] + ", as asked"})
		return
	}
	remedy := "let the site go live"
	if r.site.Quiet {
		remedy = "an extension sends mail in a way of its own; switch it off, or take its access away, until the site goes live"
	}
	evidence := []string{"as the site itself says"}
	if t.Mail.Why != "" {
		evidence = []string{t.Mail.Why}
	}
	r.record(Check{Name: "mail", Result: Fail, Sentence: fmt.Sprintf("mail is %s, and should be %s", state[t.Mail.Kept], state[!t.Mail.Kept]),
		Evidence: evidence, Remedy: remedy})
}
