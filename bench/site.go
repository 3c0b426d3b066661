package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nestseed/internal/core/sqltext"
)

// grow turns the base site into a large one: pictures that do not shrink, code and text that does, rows.
func (b *bench) grow() error {
	b.site = filepath.Join(b.stack.Sites(), "base")
	noise := newNoise()
	media, code := b.mb*74/100, b.mb*17/100 // MB; the CMS itself is the rest
	pictures := 4100 * b.mb / 800
	for i := range pictures {
		size := media << 20 / pictures
		size += size/2 - (i*7919)%size // from half to one and a half
		name := fmt.Sprintf("wp-content/uploads/20%02d/%02d/picture-%04d.jpg", 20+i%7, i%12+1, i)
		if err := b.put(name, append([]byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00"), noise(size)...)); err != nil {
			return err
		}
	}
	texts := 2056 * b.mb / 800
	line := []byte("<?php // lessons at http://base.localhost/lessons for everyone; $x['key'] = array( 'piano', 'strings', 'voice' );\n")
	for i := range texts {
		size := code << 20 / texts
		var text bytes.Buffer
		for text.Len() < size {
			text.Write(line)
			fmt.Fprintf(&text, "function part_%d_%d() { return '%x'; }\n", i, text.Len(), noise(24))
		}
		if err := b.put(fmt.Sprintf("wp-content/plugins/extension-%02d/inc/part-%04d.php", i%40, i), text.Bytes()); err != nil {
			return err
		}
	}
	if err := b.rows(); err != nil {
		return err
	}
	if err := b.stack.Own(b.site); err != nil {
		return err
	}
	// Releases are dated by the second; what changed within it is read again by the next build.
	time.Sleep(2 * time.Second)
	return nil
}

func (b *bench) put(name string, content []byte) error {
	p := filepath.Join(b.site, name)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		return err
	}
	return os.WriteFile(p, content, 0o644)
}

// newNoise returns bytes that do not shrink, quickly.
func newNoise() func(n int) []byte {
	state := uint64(88172645463325252)
	return func(n int) []byte {
		out := make([]byte, n+8)
		for i := 0; i < n; i += 8 {
			state ^= state << 13
			state ^= state >> 7
			state ^= state << 17
			for k := range 8 {
				out[i+k] = byte(state >> (8 * k))
			}
		}
		return out[:n]
	}
}

// rows adds posts with blocks and post metadata with serialised values, all naming the address.
func (b *bench) rows() error {
	db, err := b.stack.Admin()
	if err != nil {
		return err
	}
	defer db.Close()
	address := b.stack.Address("base")
	total := b.mb << 20 / 8
	posts, meta := total*6/10/1500, total*4/10/420
	insert := func(table, columns string, n int, row func(i int) string) error {
		for i := 0; i < n; {
			var stmt strings.Builder
			stmt.WriteString("INSERT INTO lad_base." + table + " (" + columns + ") VALUES ")
			for first := true; i < n && stmt.Len() < 1<<20; i++ {
				if !first {
					stmt.WriteByte(',')
				}
				first = false
				stmt.WriteString(row(i))
			}
			if _, err := db.ExecContext(b.ctx, stmt.String()); err != nil {
				return err
			}
		}
		return nil
	}
	para := strings.Repeat("Our learners play in ensembles from the first term on, and their teachers play with them. ", 11)
	err = insert("lad_posts", "post_author,post_date,post_date_gmt,post_content,post_title,post_excerpt,post_status,post_name,to_ping,pinged,post_modified,post_modified_gmt,post_content_filtered,guid,post_type", posts, func(i int) string {
		content := fmt.Sprintf("<!-- wp:image {\"id\":%d,\"url\":\"%s\"} -->\n<figure><img "+
			"src=\"%s/wp-content/uploads/2026/09/p-%d.jpg\"/></figure>\n<p>%s It's <a "+
			"href=\"%s/lessons/\">here</a>.</p>", i, strings.ReplaceAll(address, "/", `\/`), address, i, para, address)
		return fmt.Sprintf("(1,'2026-01-01 10:00:00','2026-01-01 10:00:00',%s,'News %d','','draft','news-%d','','','2026-01-01 "+
			"10:00:00','2026-01-01 10:00:00','','%s/?p=%d','post')", sqltext.String(content), i, i, address, i)
	})
	if err != nil {
		return err
	}
	return insert("lad_postmeta", "post_id,meta_key,meta_value", meta, func(i int) string {
		url := fmt.Sprintf("%s/wp-content/uploads/2026/09/p-%d-1024x683.jpg", address, i)
		v := fmt.Sprintf(`a:4:{s:5:"width";i:1024;s:4:"file";s:%d:"%s";s:4:"look";a:2:{s:4:"wide";b:1;s:4:"note";s:25:"Grüße, played in a hall";}s:4:"text";s:180:"%s";}`, len(url), url, strings.Repeat("scale and arpeggio. ", 9))
		return fmt.Sprintf("(%d,'_picture_data',%s)", i+1, sqltext.String(v))
	})
}
