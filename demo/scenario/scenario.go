// Package scenario is the made-up world that the demo, the tests and the documents live in: Loom &
// Ladder, an agency that makes sites for community music schools, its base site and its clients.
package scenario

import (
	"bytes"
	"context"
	"embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"io/fs"
	"maps"
	"math"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nestseed/demo/stack"
	"nestseed/internal/core/packing"
	"nestseed/internal/wire"
)

//go:embed all:files
var files embed.FS

// Secrets of the base site. They are made up, and must not turn up in any archive.
const (
	BaseDatabasePassword = "base-db-Xk4vTq9mWz"
	BaseAdminPassword    = "base-admin-Rj7pLw2c"
	BaseSalt             = "bsalt-u8Yn3EoDf6Gs"
)

// School is a client of the agency.
type School struct {
	Name     string // of the client and of its site
	Title    string
	Settings map[string]string
}

var schools = [][3]string{
	{"alder-valley", "Alder Valley Music School", "M-7K2P4D"},
	{"brook-lane", "Brook Lane Strings & Voices", "M-3F8Q1X"},
	{"cedar-hill", "Cedar Hill Youth Orchestra", "M-9T5W2B"},
	{"dale-end", "Dale End Piano Studio", "M-1H6R8C"},
	{"elm-court", "Elm Court Choir School", "M-4N0V7S"},
	{"fern-bank", "Fern Bank Brass Academy", "M-6L3Z9J"},
	{"glen-side", "Glenside Folk Music School", "M-8G1Y5M"},
	{"heath-row", "Heath Row Early Music", "M-2D7U4K"},
	{"ivy-house", "Ivy House Guitar School", "M-5P9E3A"},
	{"juniper-way", "Juniper Way Drum School", "M-0S4I6T"},
	{"kiln-yard", "Kiln Yard Jazz Workshop", "M-7W2O8F"},
	{"linden-green", "Linden Green Música", "M-3X6B1Q"},
}

// Schools returns the first n of the twelve client schools.
func Schools(n int) []School {
	out := make([]School, n)
	for i := range out {
		s := schools[i]
		mail := "office@" + s[0] + ".example"
		out[i] = School{Name: s[0], Title: s[1], Settings: map[string]string{
			"title": s[1], "email": mail, "contact": mail, "phone": fmt.Sprintf("01632 9602%02d", i+10),
			"tagline": "Music for all ages", "measurement": s[2], "booking_licence": fmt.Sprintf("LB-%s-%04d", s[2][2:], 1000+i*37),
		}}
	}
	return out
}

// NewFields are Fields as the service is asked to make them.
func NewFields() []wire.Field {
	text, err := json.Marshal(Fields())
	if err != nil {
		panic(err) // embedded
	}
	var fields []wire.Field
	if err := json.Unmarshal(text, &fields); err != nil {
		panic(err) // embedded
	}
	return fields
}

// Fields returns the fields that the starter asks for beyond the stock list's own.
func Fields() []packing.Field {
	text, err := files.ReadFile("files/music-base.yaml")
	if err != nil {
		panic(err) // embedded
	}
	var fields []packing.Field
	if err := yaml.Unmarshal(text, &fields); err != nil {
		panic(err) // embedded
	}
	return fields
}

// InstallBase sets up the agency's base site at http://base.localhost: a real WordPress with the
// agency's own extension, pages, posts, a menu, pictures and settings.
func InstallBase(ctx context.Context, s *stack.Stack) error {
	err := s.InstallWordPress(ctx, stack.WordPress{
		Name: "base", Title: "Loom & Ladder base site", Database: "lad_base", Prefix: "lad_", ReadOnly: "lad_reader",
		DatabasePassword: BaseDatabasePassword, AdminPassword: BaseAdminPassword, Salt: BaseSalt, AdminEmail: "ines@loomandladder.example",
	})
	if err != nil {
		return err
	}
	dir := filepath.Join(s.Sites(), "base")
	plugin, err := fs.Sub(files, "files/loom-school")
	if err != nil {
		return err
	}
	if err := os.CopyFS(filepath.Join(dir, "wp-content/plugins/loom-school"), plugin); err != nil {
		return err
	}
	for i, name := range []string{"choir", "grand-piano", "string-class", "concert-hall", "big-band", "summer-course", "teachers-room",
		"first-lesson"} {
		month := fmt.Sprintf("%02d", 9-i/3)
		if err := WritePicture(filepath.Join(dir, "wp-content/uploads/2026", month, name+".jpg"), int64(i)); err != nil {
			return err
		}
	}
	theme, news := "twentytwentythree", 6
	if s.Throwaway { // every test opens every page, and a theme of blocks takes twice as long
		theme, news = "loom-plain", 2
		plain, err := fs.Sub(files, "files/loom-plain")
		if err != nil {
			return err
		}
		if err := os.CopyFS(filepath.Join(dir, "wp-content/themes/loom-plain"), plain); err != nil {
			return err
		}
	}
	if err := s.Own(dir); err != nil {
		return err
	}
	seed, err := files.ReadFile("files/seed.php")
	if err != nil {
		return err
	}
	out, err := s.RunPHP(ctx, "base", strings.Replace(string(seed), "<?php",
		fmt.Sprintf("<?php define( 'LOOM_THEME', '%s' ); define( 'LOOM_NEWS', %d );", theme, news), 1))
	if err != nil {
		return fmt.Errorf("fill the base site: %w", err)
	}
	if !bytes.HasPrefix([]byte(out), []byte("seeded ")) {
		return fmt.Errorf("fill the base site: %.800s", out)
	}
	return nil
}

// WritePicture draws a picture of its own: bands of colour with grain, as large as a camera's.
func WritePicture(file string, seed int64) error {
	const w, h = 1600, 1067
	rng := rand.New(rand.NewSource(seed))
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	hue := rng.Float64() * 2 * math.Pi
	for y := range h {
		for x := range w {
			v := math.Sin(float64(x)/180+hue) + math.Cos(float64(y)/140-hue) + math.Sin(float64(x+y)/260)
			grain := rng.Intn(18)
			img.SetRGBA(x, y, color.RGBA{uint8(120 + 35*v + float64(grain)), uint8(130 + 28*math.Cos(v+hue) + float64(grain)),
				uint8(125 + 35*math.Sin(v-hue) + float64(grain)), 255})
		}
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	return jpeg.Encode(f, img, &jpeg.Options{Quality: 82})
}

// WriteTable writes schools as a table of clients, as site provision --table reads it.
func WriteTable(file string, schools []School) error {
	var text bytes.Buffer
	w := csv.NewWriter(&text)
	keys := slices.Sorted(maps.Keys(schools[0].Settings))
	w.Write(append([]string{"client"}, keys...))
	for _, s := range schools {
		row := []string{s.Name}
		for _, k := range keys {
			row = append(row, s.Settings[k])
		}
		w.Write(row)
	}
	w.Flush()
	return os.WriteFile(file, text.Bytes(), 0o600)
}

// Comments has visitors write on a school's site.
func Comments(ctx context.Context, s *stack.Stack, school School) error {
	_, err := s.RunPHP(ctx, school.Name, `<?php require 'wp-load.php';
		$post = get_posts(['numberposts' => 1])[0]->ID;
		foreach (['A parent' => 'The concert was lovely, thank you.', 'Oboe, second desk' => 'Is there a rehearsal in half-term?', 'A neighbour' => 'We heard you through the wall and liked it.'] as $who => $text)
			wp_insert_comment(['comment_post_ID' => $post, 'comment_author' => $who, 'comment_content' => $text, 'comment_approved' => 1]);`)
	return err
}

// Sample is what somebody may begin with who has nothing yet: the servers of a stack, the base site on them, and three schools.
func Sample(on *stack.Stack) wire.Sample {
	s := wire.Sample{
		About: "The base site of Loom & Ladder, an agency that makes sites for community music schools, on servers of its own on this machine; and three schools.",
		Host: wire.NewHost{Name: "preview", Files: "file://" + on.Sites() + "?owner=www-data", WebRoot: "{name}", Address: on.Address("{name}"),
			Database: on.DatabaseURL()},
		Source: wire.NewSource{Name: "base", Host: "preview", Path: "base"},
	}
	for _, school := range Schools(3) {
		s.Clients = append(s.Clients, wire.NewClient{Name: school.Name, Settings: school.Settings})
	}
	return s
}
