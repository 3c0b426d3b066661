package kind

import (
	"errors"
	"strings"
)

// Report is a page that a site is asked by. Each page answers one question, {what}, to requests whose parameter "by" is the HMAC-SHA-256
// (RFC 2104, in hexadecimal digits) of "at", the time in seconds, a space, and {what}, with {key}; it answers nothing to others, and after
// {until}. The answer is the HMAC of "at", a space, {what}, a space and a JSON object, with {key}; a space; and that object.
//
// "state" is answered with database, user, links, which are those that the site writes into mails and pages, and mail: kept, and why not;
// "connection" with Engine, Host, Name, User, Password, Prefix.
type Report struct {
	File string `yaml:"file"` // for its ending
	Text string `yaml:"text"`
	// Tells is a program in PHP that answers, where Text is empty, by nestseed_answer with an array. What it is asked is $nestseed_what;
	// nestseed_asks returns which database a connection is to. programs/report.php judges before who may ask.
	Tells string `yaml:"tells"`
}

// fill makes the page of what it tells.
func (r *Report) fill() error {
	if r.Tells == "" || r.Text != "" {
		return nil
	}
	if !strings.Contains(r.Tells, "nestseed_answer(") {
		return errors.New("report: tells has to answer by nestseed_answer, with an array")
	}
	page, err := programs.ReadFile("programs/report.php")
	r.Text = strings.Replace(string(page), "{tells}\n", r.Tells, 1)
	return err
}
