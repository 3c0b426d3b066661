package check

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/rewrite"
)

var toAlder = rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://alder.example"}}}

func releaseFiles(texts map[string]string) (files []ReleaseFile) {
	for name, text := range texts {
		files = append(files, ReleaseFile{name, int64(len(text)), func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }})
	}
	return files
}

func TestFilesOfAReleaseThatNameItsSourceAreReadOnTheSite(t *testing.T) {
	long := strings.Repeat("word ", 200_000)
	files := releaseFiles(map[string]string{"a.css": "url(http://base.localhost/x)", "b.css": "body{}", "c.jpg": "\x00http://base.localhost/",
		"end.txt": long + `http:\/\/base.localhost\/`, "clean.txt": long})
	found, err := Search(t.Context(), files, toAlder, nil)
	require.NoError(t, err)
	kept, err := found.MarshalBinary()
	require.NoError(t, err)
	require.Len(t, kept, 8*4, "three files, and that all were searched")
	require.Error(t, new(Searched).UnmarshalBinary(kept[:7]))

	again := &Searched{}
	require.NoError(t, again.UnmarshalBinary(kept))
	for i := range files {
		files[i].Open = func() (io.ReadCloser, error) { t.Error("it is read again"); return nil, os.ErrInvalid }
	}
	brook := rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.localhost", New: "http://base.localhost.example"}}}
	of, err := Search(t.Context(), files, brook, again)
	require.NoError(t, err)
	k := known{release: of, ofRelease: searchedFor(oldSides(brook))}
	require.True(t, k.passes(hostfs.Entry{Path: "b.css", SizeBytes: 6}))
	require.False(t, k.passes(hostfs.Entry{Path: "b.css", SizeBytes: 7}), "it was changed")
	require.False(t, k.passes(hostfs.Entry{Path: "d.css", SizeBytes: 6}), "it was found besides")
	require.False(t, k.passes(hostfs.Entry{Path: "a.css", SizeBytes: 28}), "it names the source")

	other := rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://elsewhere.example", New: "http://alder.example"}}}
	_, err = Search(t.Context(), releaseFiles(map[string]string{"b.css": "body{}"}), other, again)
	require.NoError(t, err)
	_, err = Search(t.Context(), []ReleaseFile{{"b.css", 6, func() (io.ReadCloser, error) { return nil, os.ErrPermission }}}, other, again)
	require.ErrorIs(t, err, os.ErrPermission, "another search than the one that is kept")
}

// What was searched once is read again only when it was changed, whatever time somebody has set.
func TestAFileIsSearchedAgainWhenItWasChanged(t *testing.T) {
	dir := t.TempDir()
	folder := filepath.Join(dir, "site")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "css"), 0o755))
	style := filepath.Join(folder, "css", "a.css")
	write := func(text string) {
		require.NoError(t, os.WriteFile(style, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(style, time.Unix(1, 0), time.Unix(1, 0)))
	}
	write("body{} /* http://good.localhost/ */")
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	t.Cleanup(func() { fsys.Close() })
	defer func(d time.Duration) { rested = d }(rested)
	rested = -time.Hour // as if the file had been at rest for long
	check := func(before *Searched, full bool) (Check, *Searched) {
		rep := reportOn(t, healthy(), func(s *Site) {
			s.Origin, s.FS, s.Folder, s.Searched, s.Full = toAlder, fsys, "site", before, full
		})
		for _, c := range rep.Checks {
			if c.Name == "old address in files" {
				return c, rep.Searched
			}
		}
		t.Fatal("files were not searched")
		return Check{}, nil
	}
	first, kept := check(nil, false)
	require.Equal(t, Pass, first.Result)
	require.Contains(t, first.Sentence, "none of 1 text files")
	second, again := check(kept, false)
	require.Contains(t, second.Sentence, "1 files are as they were when none of them named")
	require.Equal(t, kept.files, again.files)
	full, _ := check(kept, true)
	require.Contains(t, full.Sentence, "none of 1 text files")

	write("body{} /* http://base.localhost/ */") // as long as before, with the same time
	changed, _ := check(kept, false)
	require.Equal(t, Fail, changed.Result, changed.Sentence)
}

func TestAsManyRequestsAtATimeAsAreAnsweredSooner(t *testing.T) {
	p := pace{limit: firstPace}
	for _, rate := range []float64{10, 19, 36} { // a host with many processors
		p.learn(rate)
	}
	require.Equal(t, 16, p.limit)
	p.learn(37)
	require.Equal(t, 8, p.limit, "more did not help")
	p = pace{limit: firstPace}
	for range 5 { // a host with one
		p.learn(10)
	}
	require.Equal(t, firstPace, p.limit)
}

func TestOfEachTemplateSomePagesAreOpened(t *testing.T) {
	s := healthy()
	links := ""
	for i := range 12 {
		path := "/lesson-" + string(rune('a'+i)) + "/"
		links += `<a href="` + path + `">x</a>`
		s[path] = answer(`<title>Lesson</title><body class="single postid-` + path[8:9] + `1"><main><article>x</article></main>`)
	}
	s["/"] = answer(`<title>Alder &amp; Valley</title><meta name="robots" content="noindex"><body class="home">` + links)
	open := func(templates map[string]string, full bool) *Report {
		return reportOn(t, s, func(site *Site) { site.Templates, site.Full = templates, full })
	}
	first := open(nil, false)
	require.Zero(t, first.Waiting)
	require.Equal(t, first.Templates["lesson-a/"], first.Templates["lesson-l/"])
	require.NotEqual(t, first.Templates["lesson-a/"], first.Templates[""])

	second := open(first.Templates, false)
	require.Equal(t, 12-sameTemplate, second.Waiting)
	require.Equal(t, first.Pages-second.Waiting, second.Pages)
	require.Equal(t, first.Templates, second.Templates, "those that wait are known of")
	require.Contains(t, second.Checks[0].Sentence, "9 more have the same templates")
	require.Equal(t, first.Pages, open(first.Templates, true).Pages)

	delete(s, "/lesson-c/")
	third := open(nil, false)
	require.Empty(t, third.Templates["lesson-c/"])
	fourth := open(third.Templates, false)
	require.Equal(t, 1, fourth.Faults(), "a page that did not open is always opened again: %s", fourth.Checks[0].Sentence)
}
