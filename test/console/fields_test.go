package console

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/scenario"
	"nestseed/internal/wire"
	"nestseed/test/world"
)

const brandFields = `
- {key: logo, label: Logo, type: image, required: true, to: [{option: loom_logo}, {option: loom_logo_url, as: url}]}
- {key: icon, label: Icon of the site, type: image, to: [{option: site_icon}]}
- {key: prices, label: Price list, type: file, to: [{option: loom_prices, as: url}, {option: loom_prices_path, as: path}]}
- {key: accent, label: Colour, type: colour, default: "#224466", to: [{option: loom_accent}]}
- {key: hours, label: Office hours, type: long-text, to: [{option: loom_hours}]}
- {key: start, label: First page, type: page, to: [{option: page_on_front}]}
- {key: button, label: Menu entry that is a button, type: menu-entry, to: [{option: loom_button}]}
`

// picture writes a PNG.
func picture(t *testing.T, file string, w, h int) {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for x := range w {
		for y := range h {
			m.SetNRGBA(x, y, color.NRGBA{uint8(x), uint8(y), 90, 255})
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, m))
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
}

// download asks for something that is not JSON, and gives back its head.
func download(t *testing.T, path string) *http.Response {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, world.Service.Address()+"/api/v1"+path, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token(t))
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	return res
}

func TestALogoBecomesAPictureOfTheSite(t *testing.T) {
	world.Prepared(t)
	dir := t.TempDir()
	fields := filepath.Join(dir, "fields.yaml")
	require.NoError(t, os.WriteFile(fields, []byte(brandFields), 0o600))
	logo, icon, prices := filepath.Join(dir, "Our Logo.png"), filepath.Join(dir, "icon.png"), filepath.Join(dir, "prices 2026.pdf")
	picture(t, logo, 1200, 400)
	picture(t, icon, 512, 512)
	require.NoError(t, os.WriteFile(prices, []byte("%PDF-1.4 made up"), 0o600))
	world.Must(t, "starter", "create", "branded", "--from", "base", "--fields", fields)
	world.Must(t, "release", "build", "branded")

	school := scenario.Schools(4)[3]
	school.Name = "branded-school"
	world.AddClient(t, school)
	plan := world.Nestseed(t, "site", "plan", school.Name, "--from", "branded", "--host", "preview")
	require.Contains(t, plan.Out, "logo", "what is missing is named")
	require.Contains(t, plan.Out, "is missing")
	for file, why := range map[string]string{"fields.yaml": "not taken from clients", "nowhere.png": "no such file"} {
		r := world.Nestseed(t, "client", "set", school.Name, "--file", "logo="+filepath.Join(dir, file))
		require.NotZero(t, r.Code)
		require.Contains(t, r.Err, why)
	}
	world.Must(t, "client", "set", school.Name, "--file", "logo="+logo, "--file", "prices="+prices, "hours=Mondays 9 to 5\nFridays 9 to 12", "start=lessons", "button=Teachers",
		"accent=#8a5fa8")
	shown := world.Must(t, "client", "show", school.Name)
	require.Contains(t, shown, "our-logo.png")
	require.NotContains(t, shown, "file:")
	for value, why := range map[string]string{"accent=violet": "is not a colour", "logo=somewhere": "neither a file of the client nor a link"} {
		r := world.Nestseed(t, "site", "provision", school.Name, "--from", "branded", "--host", "preview", "--set", value)
		require.NotZero(t, r.Code)
		require.Contains(t, r.Err, why)
	}
	r := world.Nestseed(t, "site", "provision", school.Name, "--from", "branded", "--host", "preview", "--set", "logo=http://10.1.2.3/logo.png")
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, "private network", "links lead nowhere inside")
	world.NothingLeft(t, school.Name)
	r = world.Nestseed(t, "site", "provision", school.Name, "--from", "branded", "--host", "preview", "--set", "start=no-such-page")
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, `there is no page called "no-such-page"`)
	world.NothingLeft(t, school.Name)
	r = world.Nestseed(t, "site", "provision", school.Name, "--from", "branded", "--host", "preview", "--set", "button=Nowhere")
	require.NotZero(t, r.Code)
	require.Contains(t, r.Err, `there is no entry of a menu called "Nowhere"`)
	world.NothingLeft(t, school.Name)

	for key, media := range map[string]string{"logo": "image/png", "prices": "application/octet-stream"} {
		value := world.Ask[wire.Client](t, "client", "show", school.Name).Settings[key].Value
		sum, name, _ := strings.Cut(strings.TrimPrefix(value, "file:"), "/")
		res := download(t, "/clients/"+school.Name+"/files/"+sum)
		require.Equal(t, http.StatusOK, res.StatusCode, name)
		require.Equal(t, media, res.Header.Get("Content-Type"))
		require.Contains(t, res.Header.Get("Content-Security-Policy"), "sandbox")
	}
	require.Equal(t, http.StatusNotFound, download(t, "/clients/"+school.Name+"/files/"+strings.Repeat("0", 64)).StatusCode)
	site := world.Ask[wire.Site](t, "site", "provision", school.Name, "--from", "branded", "--host", "preview", "--file", "icon="+icon)
	require.Zero(t, site.Report.Faults(), "%+v", site.Report)
	option := func(name string) string {
		return text(t, fmt.Sprintf("SELECT option_value FROM %s.%soptions WHERE option_name = ?", site.Database, site.Prefix), name)
	}
	require.Equal(t, "#8a5fa8", option("loom_accent"))
	require.Equal(t, "Mondays 9 to 5\nFridays 9 to 12", option("loom_hours"))
	require.Equal(t, text(t, fmt.Sprintf("SELECT ID FROM %s.%sposts WHERE post_name = ? AND post_type = 'page'", site.Database, site.Prefix), "lessons"),
		option("page_on_front"))

	// The entry has no title of its own, so it is called by the page it leads to.
	require.Equal(t, text(t, fmt.Sprintf(`SELECT m.post_id FROM %[1]s.%[2]spostmeta m JOIN %[1]s.%[2]sposts p ON p.ID = m.meta_value
		WHERE m.meta_key = '_menu_item_object_id' AND p.post_name = ?`, site.Database, site.Prefix), "teachers"), option("loom_button"))

	// WordPress itself shows the logo with its sizes, each of which can be fetched.
	status, body := world.Visit(t, site.Address+"/wp-json/wp/v2/media/"+option("loom_logo"))
	require.Equal(t, 200, status, body)
	var media struct {
		SourceURL string `json:"source_url"`
		MimeType  string `json:"mime_type"`
		Details   struct {
			Width, Height int
			Sizes         map[string]struct {
				Width, Height int
				SourceURL     string `json:"source_url"`
			}
		} `json:"media_details"`
	}
	require.NoError(t, json.Unmarshal([]byte(body), &media))
	require.Equal(t, "image/png", media.MimeType)
	require.Equal(t, []int{1200, 400}, []int{media.Details.Width, media.Details.Height})
	require.Equal(t, option("loom_logo_url"), media.SourceURL)
	want := map[string][2]int{"full": {1200, 400}, "medium": {300, 100}, "large": {1024, 341}, "thumbnail": {150, 150}, "medium_large": {768, 256}}
	require.Len(t, media.Details.Sizes, len(want))
	for name, size := range media.Details.Sizes {
		require.Equal(t, want[name], [2]int{size.Width, size.Height}, name)
		status, content := world.Visit(t, size.SourceURL)
		require.Equal(t, 200, status)
		head, _, err := image.DecodeConfig(strings.NewReader(content))
		require.NoError(t, err)
		require.Equal(t, want[name], [2]int{head.Width, head.Height}, name)
	}
	require.Contains(t, world.Shows(t, site.Address+"/"), `rel="icon"`)
	status, content := world.Visit(t, option("loom_prices"))
	require.Equal(t, 200, status)
	require.Equal(t, "%PDF-1.4 made up", content)
	require.True(t, strings.HasSuffix(option("loom_prices"), option("loom_prices_path")))

	// In a table, a cell is a path beside the table, or a link; a client that is new is added.
	table := filepath.Join(dir, "table.csv")
	require.NoError(t, os.WriteFile(table, []byte("client,title,email,logo\nbranded-b,Brand B,b@brand-b.example,Our Logo.png\n"+
		"branded-c,Brand C,c@brand-c.example,"+world.Stack.Address("base")+"/wp-admin/images/w-logo-blue.png\n"), 0o600))
	args := []string{"--table", table, "--from", "branded", "--host", "preview"}
	require.Contains(t, world.Must(t, append([]string{"site", "plan"}, args...)...), "2 would be made")
	require.Equal(t, 3, world.Nestseed(t, "client", "show", "branded-b").Code, "a plan adds nobody")
	world.Must(t, append([]string{"site", "provision"}, args...)...)
	linked := world.Ask[wire.Site](t, "site", "show", "branded-c")
	require.Equal(t, 1, world.Rows(t, fmt.Sprintf("SELECT COUNT(*) FROM %s.%sposts WHERE post_type = 'attachment' AND guid LIKE ?", linked.Database, linked.Prefix),
		linked.Address+"/wp-content/uploads/%/w-logo-blue.png"))
	for _, name := range []string{"branded-b", "branded-c", school.Name} {
		world.Must(t, "site", "retire", name, "--no-copy")
		world.NothingLeft(t, name)
	}
}

// Whoever says which values are each client's own looks into the source; what is secret there is not shown.
func TestTheValuesOfASourceAreLookedThrough(t *testing.T) {
	world.Prepared(t)
	all := world.Must(t, "source", "values", "base")
	require.Contains(t, all, "setting WP_DEBUG")
	require.NotContains(t, all, "setting DB_NAME", "each site has its own")
	require.NotRegexp(t, `(?m)^siteurl`, all)
	require.Regexp(t, `loom_school +\d+ values inside`, all)
	require.NotContains(t, all, scenario.BaseDatabasePassword)
	inside := world.Must(t, "source", "values", "base", "loom_school")
	require.Regexp(t, `loom_school › contact › email +hello@loomandladder.example`, inside)
	require.NotContains(t, inside, "blogname")
	require.NotContains(t, inside, "LL-MANY-SITES", "what is below a licence is one")
	found := world.Must(t, "source", "values", "base", "--find", "base site")
	require.Contains(t, found, "blogname")
	require.NotContains(t, found, "loom_school")
	require.Equal(t, 3, world.Nestseed(t, "source", "values", "nowhere").Code)
}
