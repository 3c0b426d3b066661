package kind

import "strings"

// Report is a page that a site is asked by. It answers {key}, a space, and a JSON object, to requests whose parameter "by" is the
// HMAC-SHA-256 (RFC 2104) of "at", the time in seconds, a space, and "what", with {key}; it is silent to others, and after {until}.
// Asked for "state", it tells database, user, links, which are those that the site writes into
// mails and pages, and mail: kept, and why not; asked for "connection", Engine, Host, Name, User, Password, Prefix.
type Report struct {
	File string `yaml:"file"` // for its ending
	Text string `yaml:"text"`
	// Tells is a program in PHP that prints the answer, where Text is empty: what it is asked is $nestseed_what, and nestseed_asks tells
	// which database a connection is to. Who may ask is judged before, by programs/report.php.
	Tells string `yaml:"tells"`
}

// fill makes the page of what it tells.
func (r *Report) fill() error {
	if r.Tells == "" || r.Text != "" {
		return nil
	}
	page, err := programs.ReadFile("programs/report.php")
	r.Text = strings.Replace(string(page), "{tells}\n", r.Tells, 1)
	return err
}

// AsksPrefix is how the names of such pages begin while they lie in a site's folder.
const AsksPrefix = "nestseed-asks-"
