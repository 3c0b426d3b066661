package check

import "slices"

// Group is a question that people ask of a site.
type Group string

// The questions, in their order.
const (
	Up      Group = "up"      // is it up
	Own     Group = "own"     // is it theirs: title, login, database
	Old     Group = "old"     // is anything left of what it came from
	Public  Group = "public"  // is it private or public as asked
	Mail    Group = "mail"    // do mails go where they should
	Details Group = "details" // the rest
)

// fact is what is to be known of a check besides what it finds.
type fact struct {
	name  string
	group Group
	how   string // it is found out
}

// Names of checks that more than one place knows.
const (
	pagesOpen    = "pages"
	images       = "images and styles"
	privateFiles = "private files"
	packedValues = "packed values"
)

// facts has all checks, in the order in which people ask.
var facts = []fact{
	{pagesOpen, Up, "pages were opened as a visitor opens them, from the home page on"},
	{"sub-sites", Up, "the first page of each sub-site was opened"},
	{"certificate", Up, "its chain, name and dates were verified as browsers do"},
	{"name", Up, "DNS was asked for the name, and for that of the host"},
	{"title", Own, "the home page's title was read"},
	{"login", Own, "somebody logged in with the account from the vault, and opened a page that only administrators see"},
	{"own database", Own, "a page was placed on the site, asked and removed"},
	{"old address in pages", Old, "all pages and answers that were opened were searched, with their headers"},
	{"old address in rows", Old, "every value of every table was read, also what is compressed or encoded as a whole"},
	{"old address in files", Old, "text files were searched"},
	{"redirects", Old, "the redirects of pages were followed"},
	{"search engines", Public, "the home page and robots.txt were read"},
	{"holding page", Public, "the home page was opened without a key"},
	{privateFiles, Public, "private files were asked for by their addresses"},
	{"left behind", Public, "what looks like a dump, an archive or an installer was asked for by its address"},
	{"mail", Mail, "a page was placed on the site, asked and removed"},
	{"links in mails", Mail, "a page was placed on the site, asked and removed"},
	{"form", Mail, "a form was sent with nothing filled in"},
	{images, Details, "what pages load was asked for"},
	{"mixed content", Details, "what pages load was compared with their own scheme"},
	{"response time", Details, "the time until a page had come was measured"},
	{"serialised values", Details, "values were read as PHP reads them"},
	{packedValues, Details, "compressed values were opened"},
	{"server rules", Details, "the files of rules were read, and the web server's name"},
}

// neverExcused are the checks whose fault counts whatever was found elsewhere or before: what was asked for, and what would change
// another site.
var neverExcused = []string{"own database", "mail", "search engines", "holding page", "certificate", "name"}

// Names returns the names of all checks, in the order in which people ask.
func Names() (names []string) {
	for _, f := range facts {
		names = append(names, f.name)
	}
	return names
}

func factNamed(name string) int {
	return slices.IndexFunc(facts, func(f fact) bool { return f.name == name })
}
