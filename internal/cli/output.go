package cli

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"
)

// size says bytes as a person would: three figures at the most, decimal units (SI).
func size(bytes int64) string {
	if bytes < 1000 {
		return fmt.Sprintf("%d B", bytes)
	}
	v := float64(bytes)
	for _, unit := range []string{"kB", "MB", "GB", "TB"} {
		v /= 1000
		if v < 9.95 {
			return fmt.Sprintf("%.1f %s", v, unit)
		}
		if v < 999.5 {
			return fmt.Sprintf("%.0f %s", v, unit)
		}
	}
	return fmt.Sprintf("%.0f PB", v/1000)
}

// count groups digits: 118,402.
func count(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// several counts things: 1 table, 2 tables.
func several(n int64, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return count(n) + " " + thing + "s"
}

func millis(ms int64) string {
	if ms < 1000 {
		return fmt.Sprintf("%d ms", ms)
	}
	return fmt.Sprintf("%.1f s", float64(ms)/1000)
}

func day(t time.Time) string { return t.Local().Format("2 Jan 2006, 15:04") }

const barWidth = 20

// bar draws a share of the largest.
func bar(part, whole int64) string {
	if whole <= 0 {
		return strings.Repeat(" ", barWidth)
	}
	eighths := int(part * barWidth * 8 / whole)
	full := min(eighths/8, barWidth)
	out := strings.Repeat("█", full)
	if rest := eighths % 8; rest > 0 && full < barWidth {
		out += string([]rune(" ▏▎▍▌▋▊▉")[rest])
	} else if eighths == 0 && part > 0 {
		out += "▏"
	}
	return out + strings.Repeat(" ", barWidth-utf8.RuneCountInString(out))
}

// table prints rows in columns. A heading that begins with > is of numbers, aligned right.
func table(w io.Writer, headings []string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	right := make([]bool, len(headings))
	width := make([]int, len(headings))
	for i, h := range headings {
		headings[i], right[i] = strings.TrimPrefix(h, ">"), strings.HasPrefix(h, ">")
		width[i] = utf8.RuneCountInString(headings[i])
		for _, r := range rows {
			width[i] = max(width[i], utf8.RuneCountInString(r[i]))
		}
	}
	line := func(cells []string) {
		var b strings.Builder
		for i, c := range cells {
			pad := strings.Repeat(" ", width[i]-utf8.RuneCountInString(c))
			if right[i] {
				b.WriteString(pad + c)
			} else {
				b.WriteString(c + pad)
			}
			b.WriteString("  ")
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
	line(headings)
	for _, r := range rows {
		line(r)
	}
}
