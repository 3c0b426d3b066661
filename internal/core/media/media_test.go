package media

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"
)

func picture(t *testing.T, w, h int, asJPEG bool) []byte {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for x := range w {
		for y := range h {
			m.SetNRGBA(x, y, color.NRGBA{uint8(255 * x / w), uint8(255 * y / h), 80, 255})
		}
	}
	var b bytes.Buffer
	if asJPEG {
		require.NoError(t, jpeg.Encode(&b, m, nil))
	} else {
		require.NoError(t, png.Encode(&b, m))
	}
	return b.Bytes()
}

func ExampleFile_Sizes() {
	var b bytes.Buffer
	_ = png.Encode(&b, image.NewNRGBA(image.Rect(0, 0, 600, 200)))
	f, _ := Read("Our Logo.PNG", b.Bytes())
	sizes, _ := f.Sizes(context.Background(), []Size{{Name: "medium", Width: 300, Height: 300}, {Name: "large", Width: 1024, Height: 1024}})
	for _, s := range sizes {
		fmt.Println(s.Size.Name, s.Name, s.Width, s.Height)
	}
	// Output: medium our-logo-300x100.png 300 100
}

func TestPicturesAreMadeSmallerAsTheirSizesSay(t *testing.T) {
	for _, c := range []struct {
		w, h       int
		size       Size
		outW, outH int // 0: none is made
	}{
		{600, 200, Size{Width: 150, Height: 150, Crop: true}, 150, 150},
		{600, 100, Size{Width: 150, Height: 150, Crop: true}, 150, 100},
		{600, 200, Size{Width: 768}, 0, 0},
		{600, 200, Size{Width: 300}, 300, 100},
		{600, 200, Size{Height: 50}, 150, 50},
		{600, 200, Size{}, 0, 0},
		{100, 100, Size{Width: 150, Height: 150, Crop: true}, 0, 0},
		{3000, 2, Size{Width: 100, Height: 100}, 100, 1},
	} {
		for _, asJPEG := range []bool{false, true} {
			name := map[bool]string{false: "logo.png", true: "logo.jpg"}[asJPEG]
			f, err := Read(name, picture(t, c.w, c.h, asJPEG))
			require.NoError(t, err)
			sizes, err := f.Sizes(context.Background(), []Size{c.size})
			require.NoError(t, err)
			if c.outW == 0 {
				require.Empty(t, sizes)
				continue
			}
			head, _, err := image.DecodeConfig(bytes.NewReader(sizes[0].Content))
			require.NoError(t, err)
			require.Equal(t, []int{c.outW, c.outH, c.outW, c.outH}, []int{head.Width, head.Height, sizes[0].Width, sizes[0].Height}, "%+v", c)
		}
	}
}

func TestTheMiddleOfAPictureIsKept(t *testing.T) {
	f, err := Read("wide.png", picture(t, 300, 100, false))
	require.NoError(t, err)
	sizes, err := f.Sizes(context.Background(), []Size{{Width: 50, Height: 50, Crop: true}})
	require.NoError(t, err)
	m, err := png.Decode(bytes.NewReader(sizes[0].Content))
	require.NoError(t, err)
	red := func(x int) uint32 {
		r, _, _, _ := m.At(x, 25).RGBA()
		return r >> 8
	}
	require.InDelta(t, 255/3, int(red(0)), 8)
	require.InDelta(t, 2*255/3, int(red(49)), 8)
}

func TestWhatASiteMustNotHaveIsRefused(t *testing.T) {
	good := picture(t, 20, 20, false)
	bomb := bytes.Clone(good)
	copy(bomb[16:], []byte{0, 0, 0xff, 0xff, 0, 0, 0xff, 0xff}) // the size that its head says
	for name, content := range map[string][]byte{
		"shell.php": good, "page.html": good, "logo.svg": []byte("<svg/>"), "a.php.png": []byte("<?php"), "logo": good, ".htaccess": good, "x.phar": good,
		"logo.jpg": good, "empty.png": {}, "bomb.png": bomb, "cut.png": good[:12], "large.pdf": make([]byte, MostBytes+1),
	} {
		_, err := Read(name, content)
		require.ErrorIs(t, err, ErrRefused, name)
	}
	for name, want := range map[string]string{"../../Über uns.PNG": "ber-uns.png", "logo.php.png": "logo-php.png", `C:\pictures\Logo (1).png`: "logo-1.png",
		"....png": "file.png", "price list 2026.pdf": "price-list-2026.pdf"} {
		f, err := Read(name, good)
		require.NoError(t, err)
		require.Equal(t, want, f.Name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("logo.png", []byte("\x89PNG\r\n\x1a\n"))
	f.Fuzz(func(t *testing.T, name string, content []byte) {
		if file, err := Read(name, content); err == nil {
			require.Regexp(t, `^[a-z0-9][a-z0-9_-]*\.[a-z0-9]+$`, file.Name)
			_, _ = file.Sizes(context.Background(), []Size{{Width: 10, Height: 10, Crop: true}})
		}
	})
}
