package console

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/test/world"
)

// sayings are how sentences of the service may look, as translators have them.
type sayings struct {
	forms []*regexp.Regexp
	asked map[string]bool
}

func readSayings(t *testing.T) sayings {
	t.Helper()
	all := sayings{asked: map[string]bool{}}
	text, err := os.ReadFile("../../web/src/words/service/en.po")
	require.NoError(t, err)
	value := regexp.MustCompile(`\\\{\d+\\\}`)
	for _, m := range regexp.MustCompile(`(?m)^msgid (".+")$`).FindAllStringSubmatch(string(text), -1) {
		said, err := strconv.Unquote(m[1])
		require.NoError(t, err, m[1])
		said = strings.NewReplacer("'{'", "\x01", "'}'", "\x02", "''", "'").Replace(said)
		said = value.ReplaceAllLiteralString(regexp.QuoteMeta(said), "(?s:.*)")
		all.forms = append(all.forms, regexp.MustCompile("^"+strings.NewReplacer("\x01", `\{`, "\x02", `\}`).Replace(said)+"$"))
	}
	require.Greater(t, len(all.forms), 1000)
	return all
}

// knows reports whether a sentence, or a part of one that was put together, is among those.
func (s sayings) knows(text string) bool {
	known, asked := s.asked[text]
	if asked {
		return known
	}
	known = slices.ContainsFunc(s.forms, func(one *regexp.Regexp) bool { return one.MatchString(text) })
	for _, between := range []string{"; ", ": ", ", "} {
		if first, rest, is := strings.Cut(text, between); is && !known {
			known = s.knows(first) || s.knows(rest)
		}
	}
	s.asked[text] = known
	return known
}

// sentencesIn gathers what stands in the fields of an answer that are sentences.
func sentencesIn(answer any, fields map[string]bool, add func(string)) {
	switch v := answer.(type) {
	case []any:
		for _, one := range v {
			sentencesIn(one, fields, add)
		}
	case map[string]any:
		_, isRun := v["job"]
		for name, of := range v {
			if !fields[name] && !(isRun && name == "title") {
				sentencesIn(of, fields, add)
				continue
			}
			switch of := of.(type) {
			case string:
				add(of)
			case []any:
				for _, one := range of {
					if text, is := one.(string); is {
						add(text)
					} else {
						sentencesIn(one, fields, add)
					}
				}
			default:
				sentencesIn(of, fields, add)
			}
		}
	}
}

// TestWhatTheServiceSaysCanBeTranslated looks at what the tests before it have left, so it sees more in a whole run than by itself.
func TestWhatTheServiceSaysCanBeTranslated(t *testing.T) {
	world.Prepared(t)
	_, doc := world.Request(t, http.MethodGet, "/api/openapi.json", "", nil)
	fields := map[string]bool{}
	for _, schema := range doc["components"].(map[string]any)["schemas"].(map[string]any) {
		properties, _ := schema.(map[string]any)["properties"].(map[string]any)
		for name, of := range properties {
			p, _ := of.(map[string]any)
			items, _ := p["items"].(map[string]any)
			fields[name] = fields[name] || p["format"] == "sentence" || items["format"] == "sentence"
		}
	}
	require.True(t, fields["remedy"] && fields["sentences"] && !fields["name"])

	school := scenario.Schools(4)[3]
	school.Name = "worded"
	world.AddClient(t, school)
	all := readSayings(t)
	seen, unknown := map[string]bool{}, []string{}
	c := newContract(t)
	hear := func(method, path, body string) (said any) {
		t.Helper()
		_, text := c.send(t, method, path, body)
		require.NoError(t, json.Unmarshal(text, &said), "%s", text)
		sentencesIn(said, fields, func(text string) {
			if strings.Contains(text, " ") && !seen[text] {
				seen[text] = true
				if !all.knows(text) && !strings.HasPrefix(text, ".htaccess: ") && !strings.Contains(text, "context canceled") {
					unknown = append(unknown, path+": "+text)
				}
			}
		})
		return said
	}
	named := func(of any, key string) (names []string) {
		list, _ := of.([]any)
		for _, one := range list {
			names = append(names, fmt.Sprint(one.(map[string]any)[key]))
		}
		return names
	}
	world.Must(t, "site", "provision", school.Name, "--from", "music-base", "--host", "preview")
	t.Cleanup(func() { world.Must(t, "site", "undo", school.Name) })
	hear(http.MethodGet, "/today", "")
	for _, site := range named(hear(http.MethodGet, "/sites?retired=true", "").(map[string]any)["sites"], "name") {
		hear(http.MethodGet, "/sites/"+site, "")
	}
	for _, run := range named(hear(http.MethodGet, "/runs?limit=100", ""), "id") {
		hear(http.MethodGet, "/runs/"+run, "")
		hear(http.MethodGet, "/runs/"+run+"/log", "")
	}
	for _, path := range []string{"/sources/base", "/releases/music-base@1", "/starters/music-base/packing", "/hosts/preview", "/sites/worded/undo"} {
		hear(http.MethodGet, path, "")
	}
	hear(http.MethodPost, "/hosts/preview/test", "{}")
	hear(http.MethodPost, "/sites/plan", `{"client":"worded","from":"music-base","host":"preview"}`)
	hear(http.MethodPost, "/sites/plan", `{"client":"worded","from":"music-base","host":"preview","name":"base","address":"nonsense"}`)
	hear(http.MethodGet, "/sites/nobody", "")
	require.Greater(t, len(seen), 60)
	require.Empty(t, unknown, "%s", strings.Join(unknown, "\n"))
}
