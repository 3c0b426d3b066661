package check

import (
	"context"
	"fmt"
	"path"
	"strings"

	"nestseed/internal/core/hostfs"
)

// rulesFile holds rules for one folder that Apache reads, and servers that do as Apache does.
const rulesFile = ".htaccess"

const maxRulesBytes = 256 << 10

// serverRules warns of rules that the site's web server does not read, as nginx reads none from the site's folder. Those that the CMS
// writes for itself are not meant: the pages have been opened.
func (r *runner) serverRules(ctx context.Context, files []hostfs.Entry) {
	if len(r.pages) == 0 || !strings.Contains(strings.ToLower(r.pages[0].header.Get("Server")), "nginx") {
		return
	}
	var lost []finding
	for _, e := range files {
		text, err := hostfs.ReadFile(ctx, r.folder, e.Path, maxRulesBytes)
		if err != nil {
			continue
		}
		if rules := rulesIn(string(text), r.site.Kind.OwnRules); len(rules) > 0 {
			lost = append(lost, finding{e.Path + " " + strings.Join(rules, "\n"), fmt.Sprintf("%s: %s", e.Path,
				strings.Join(rules[:min(3, len(rules))], "; "))})
		}
	}
	if len(lost) > 0 {
		c := Check{Name: "server rules",
			Remedy: "have the host's configuration do the same: redirects, passwords, folders that nobody may read"}
		r.judge(c, Warn, "rules in .htaccess files do nothing here, as the web server is nginx", lost)
	}
}

// rulesIn returns the directives of a file of rules, other than those between the marks of blocks that the CMS writes.
func rulesIn(text string, own []string) (rules []string) {
	inside := ""
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if mark, is := strings.CutPrefix(line, "# BEGIN "); is {
			inside = mark
		}
		if mark, is := strings.CutPrefix(line, "# END "); is && mark == inside {
			inside = ""
			continue
		}
		named := false
		for _, o := range own {
			named = named || inside == o
		}
		if named || line == "" || line[0] == '#' || line[0] == '<' || strings.EqualFold(line, "RewriteEngine On") {
			continue
		}
		rules = append(rules, line)
	}
	return rules
}

func isRules(e hostfs.Entry) bool { return e.Mode.IsRegular() && path.Base(e.Path) == rulesFile }
