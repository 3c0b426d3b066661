package provision

import (
	"net/url"
	"path"
	"strings"
)

// rulesFile holds rules for one folder that Apache reads, and servers that do as Apache does (Apache manual, ".htaccess files").
const rulesFile = ".htaccess"

// urlDirectives are those whose arguments may be paths of the web site, which begin with a slash, and where these begin among the
// arguments. Others have patterns, or paths on the disk.
var urlDirectives = map[string]int{"rewritebase": 0, "rewriterule": 1, "errordocument": 1, "redirect": 0, "redirectpermanent": 0,
	"redirecttemp": 0, "fallbackresource": 0}

// rebaseRules puts the folder of the new address in the place of that of the old one in rules for the web server.
func (p *Plan) rebaseRules(text []byte) []byte {
	if len(p.Rules.Addresses) == 0 {
		return text
	}
	was, err := url.Parse(p.Rules.Addresses[0].Old)
	now, errNow := url.Parse(p.Rules.Addresses[0].New)
	if err != nil || errNow != nil {
		return text
	}
	from, to := strings.TrimRight(was.Path, "/"), strings.TrimRight(now.Path, "/")
	if from == to {
		return text
	}
	var out strings.Builder
	for line := range strings.Lines(string(text)) {
		out.WriteString(rebaseLine(line, from, to))
	}
	return []byte(out.String())
}

func rebaseLine(line, from, to string) string {
	fields := strings.Fields(line)
	if len(fields) < 2 {
		return line
	}
	first, known := urlDirectives[strings.ToLower(fields[0])]
	if !known {
		return line
	}
	rest := line
	var out strings.Builder
	for i, f := range fields {
		at := strings.Index(rest, f)
		out.WriteString(rest[:at])
		rest = rest[at+len(f):]
		if i > first {
			f = rebasePath(f, from, to)
		}
		out.WriteString(f)
	}
	return out.String() + rest
}

// rebasePath gives a path of the old site its place in the new one. What is no such path stays.
func rebasePath(p, from, to string) string {
	rest, inside := strings.CutPrefix(p, from)
	if !inside || !strings.HasPrefix(p, "/") || strings.HasPrefix(p, "//") || rest != "" && rest[0] != '/' {
		return p
	}
	if rest == "" && to == "" {
		return "/"
	}
	return to + rest
}

func isRules(name string) bool { return path.Base(name) == rulesFile }
