package check

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
)

// told is what a site says of itself: which database it works on and as whom, and whether its mail is kept from going out.
type told struct {
	Database string `json:"database"`
	User     string `json:"user"`
	Mail     struct {
		Kept bool   `json:"kept"`
		Why  string `json:"why"`
	} `json:"mail"`
}

const (
	asksPrefix = "nestseed-asks-"
	silent     = 10 * time.Minute // when a page that tells says nothing any more
)

// ask puts the kind's page that tells into the site's folder, asks it with a signed request, and takes it away again, with those
// that somebody was killed over before. The page answers for ten minutes, and only who has the key that it was made with.
func (r *runner) ask(ctx context.Context) (_ *told, err error) {
	report := r.site.Kind.Report
	name := asksPrefix + strings.ToLower(rand.Text()) + path.Ext(report.File)
	key := rand.Text()
	text := strings.NewReplacer("{key}", key, "{until}", strconv.FormatInt(time.Now().Add(silent).Unix(), 10)).Replace(report.Text)
	defer func() {
		ctx := context.WithoutCancel(ctx)
		for _, page := range append(r.oldAsks, name) {
			err = errors.Join(err, r.folder.RemoveAll(ctx, page))
		}
	}()
	if err := hostfs.WriteFile(ctx, r.folder, name, []byte(text), 0o644); err != nil {
		return nil, err
	}
	now := strconv.FormatInt(time.Now().Unix(), 10)
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(now))
	query := url.Values{"at": {now}, "by": {hex.EncodeToString(mac.Sum(nil))}}
	res, body, err := r.get(ctx, r.base.String()+"/"+name+"?"+query.Encode())
	if err != nil {
		return nil, err
	}
	_, answer, is := strings.Cut(string(body), key+" ")
	out := &told{}
	if !is || json.NewDecoder(strings.NewReader(answer)).Decode(out) != nil {
		return nil, fmt.Errorf("the answer was %s, and not from the page that was asked", res.Status)
	}
	return out, nil
}

// checkTold asks the site which database it works on and whether mail goes out, and judges both by what it says.
func (r *runner) checkTold(ctx context.Context) {
	if r.site.Kind.Report.Text == "" || r.site.AsItIs {
		return
	}
	t, err := r.ask(ctx)
	if err != nil {
		r.record(Check{Name: "own database", Result: Warn,
			Sentence: "the site did not tell which database it works on, and whether mail goes out",
			Evidence: []string{err.Error()}, Remedy: "open it in a browser and look at the server's error log; check again when it works"})
		return
	}
	user, _, _ := strings.Cut(t.User, "@")
	if r.site.Database != "" && (t.Database != r.site.Database || user != r.site.User) {
		r.record(Check{Name: "own database", Result: Fail,
			Sentence: fmt.Sprintf("the site works on the database %s as %s, and its own is %s, as %s",
				t.Database, user, r.site.Database, r.site.User), Evidence: []string{"as the site itself says"},
			Remedy: "do not use it: what is changed there is changed on another site; see what sets the database in its settings file"})
	} else {
		r.record(Check{Name: "own database", Result: Pass, Sentence: "the site works on its own database, " + t.Database + ", as it says itself"})
	}
	r.mail(t)
}

// mail tells whether mail goes out, by what the site says, and warns when that is not as it was asked.
func (r *runner) mail(t *told) {
	if r.site.Kind.Mail.File == "" {
		return
	}
	state := map[bool]string{true: "kept from going out", false: "let out"}
	if t.Mail.Kept == r.site.Quiet {
		r.record(Check{Name: "mail", Result: Pass, Sentence: "mail is " + state[r.site.Quiet] + ", as asked"})
		return
	}
	remedy := "let the site go live with nestseed site open NAME --visible"
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
