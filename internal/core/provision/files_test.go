package provision

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/media"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sitedb"
)

func TestWhatACMSKnowsOfAPictureIsWrittenAsItWouldItself(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewNRGBA(image.Rect(0, 0, 600, 200))))
	f, err := media.Read("logo.png", b.Bytes())
	require.NoError(t, err)
	sizes, err := f.Sizes(t.Context(), []media.Size{{Name: "medium", Width: 300, Height: 300}})
	require.NoError(t, err)
	mk := &maker{req: Request{Kind: kindtest.Named(t, "wordpress")}}
	facts := mk.factsOf(&clientFile{File: f, below: "2026/11/logo.png"}, sizes)
	for path, want := range map[string]string{"width": "600", "height": "200", "file": "2026/11/logo.png"} {
		is, err := phpval.Lookup(facts, path)
		require.NoError(t, err)
		require.Equal(t, want, is)
	}
	for key, want := range map[string]string{"file": "logo-300x100.png", "width": "300", "height": "100", "mime-type": "image/png"} {
		is, err := phpval.Lookup(facts, "sizes", "medium", key)
		require.NoError(t, err, string(facts))
		require.Equal(t, want, is)
	}
	document := &clientFile{File: &media.File{Name: "prices.pdf", Type: "application/pdf"}}
	require.Nil(t, mk.factsOf(document, nil))
}

func TestOfAFileThePlaceSaysWhatIsPutThere(t *testing.T) {
	c := &clientFile{File: &media.File{Name: "logo.png"}, at: "wp-content/uploads/2026/11/logo.png", id: "37"}
	inDatabase, inFiles := packing.Target{Option: "loom_logo"}, packing.Target{Token: "%LOGO%", Files: []string{"*.css"}}
	as := func(t packing.Target, what string) packing.Target {
		t.As = what
		return t
	}
	const url = "https://alder.example/wp-content/uploads/2026/11/logo.png"
	for _, c2 := range []struct {
		kind   string
		target packing.Target
		want   string
	}{
		{"wordpress", inDatabase, "37"}, {"wordpress", as(inDatabase, "url"), url}, {"wordpress", as(inDatabase, "path"), c.at}, {"wordpress", inFiles, url},
		{"joomla", inDatabase, url}, {"joomla", packing.Target{Setting: "JConfig->logo"}, url},
	} {
		mk := &maker{req: Request{Kind: kindtest.Named(t, c2.kind)}, plan: &Plan{Address: "https://alder.example"}}
		got, err := mk.as(c, c2.target)
		require.NoError(t, err)
		require.Equal(t, c2.want, got, "%+v", c2)
	}
	mk := &maker{req: Request{Kind: &kind.Kind{Title: "Noticeboard"}}, plan: &Plan{Address: "https://alder.example"}}
	_, err := mk.as(&clientFile{}, as(inDatabase, "id"))
	require.ErrorIs(t, err, ErrPlan)
	require.ErrorContains(t, err, "write as: url there")
}

// named answers Select from rows, by table and what is looked for.
type named struct {
	sitedb.DB
	rows map[string][][][]byte
}

func (n named) Select(_ context.Context, table string, _ []string, by string, values []string, each func([][]byte) error) error {
	for _, row := range n.rows[table+" "+by+" "+values[0]] {
		if err := each(row); err != nil {
			return err
		}
	}
	return nil
}

func TestPagesAndMenuEntriesAreFoundByWhatPeopleCallThem(t *testing.T) {
	rows := func(lines ...string) (out [][][]byte) {
		for _, line := range lines {
			out = append(out, bytes.Split([]byte(line), []byte(" ")))
		}
		return out
	}
	db := named{rows: map[string][][][]byte{
		"n_posts post_name teachers": rows("7 page"), "n_posts post_title Book": rows("131 nav_menu_item", "31 nav_menu_item", "30 nav_menu_item"),
		"n_posts post_title Menu": rows("9 revision"), "n_posts post_name events": rows("8 page"),
		"n_posts ID 30": rows("draft draft"), "n_posts ID 31": rows("publish publish"), "n_posts ID 131": rows("publish publish"),
		"n_posts ID 7": rows("publish publish"), "n_posts ID 8": rows("private private"),
		"n_posts post_name old": rows("6 page"), "n_posts ID 6": rows("trash trash"),
		"n_posts ID 32": rows("publish publish"), "n_posts ID 33": rows("publish publish"), "n_posts ID 34": rows("publish publish"),
		"n_postmeta meta_value 7": rows("31 _thumbnail_id", "33 _menu_item_object_id", "32 _menu_item_object_id"), // 32 leads to the category 7
		"n_postmeta meta_value 8": rows("34 _menu_item_object_id"),
		"n_postmeta post_id 32":   rows("7 _menu_item_object_id", "taxonomy _menu_item_type"), "n_postmeta post_id 33": rows("post_type _menu_item_type"),
		"n_postmeta post_id 34": rows("taxonomy _menu_item_type", "post_type _menu_item_target"),
		"n_menu title Lessons":  rows("101 0"), "n_menu title Dashboard": rows("2 1"), "n_menu id 101": rows("1 1"),
		"n_menu_link_content_data title Lessons": rows("3 1", "4 1"), "n_menu_link_content_data id 3": rows("0 0"), "n_menu_link_content_data id 4": rows("1 1"),
	}}
	for _, c := range []struct{ kind, what, name, want, why string }{
		{"wordpress", "page", "teachers", "7", ""}, {"wordpress", "page", "Book", "", "no page called"}, {"wordpress", "page", "old", "", "no page called"},
		{"wordpress", "menu-entry", "Book", "31", ""},
		{"wordpress", "menu-entry", "teachers", "33", ""}, {"wordpress", "menu-entry", "events", "", "no entry of a menu called"},
		{"wordpress", "menu-entry", "Menu", "", "no entry of a menu called"},
		{"joomla", "menu-entry", "Lessons", "101", ""}, {"joomla", "menu-entry", "Dashboard", "", "no entry of a menu called"},
		{"drupal", "menu-entry", "Lessons", "4", ""}, {"noticeboard", "menu-entry", "Lessons", "", "nothing says how"},
	} {
		k := &kind.Kind{Title: "Noticeboard"}
		if c.kind != "noticeboard" {
			k = kindtest.Named(t, c.kind)
		}
		mk := &maker{req: Request{Kind: k}, plan: &Plan{Prefix: "n_"}, db: db}
		number, err := mk.numberOf(t.Context(), c.what, c.name)
		require.Equal(t, c.want, number, "%+v", c)
		if c.why != "" {
			require.ErrorIs(t, err, ErrPlan)
			require.ErrorContains(t, err, c.why)
		}
	}
}
