package provision

import (
	"bytes"
	"image"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/kind/kindtest"
	"nestseed/internal/core/media"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/phpval"
)

func TestWhatACMSKnowsOfAPictureIsWrittenAsItWouldItself(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewNRGBA(image.Rect(0, 0, 600, 200))))
	f, err := media.Read("logo.png", b.Bytes())
	require.NoError(t, err)
	sizes, err := f.Sizes([]media.Size{{Name: "medium", Width: 300, Height: 300}})
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
