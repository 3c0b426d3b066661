package ftp

import (
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
)

// parseFacts reads a line of MLSD (RFC 3659, section 7). ok is false for the folder itself and the one above.
func parseFacts(line string) (e hostfs.Entry, ok bool, err error) {
	facts, name, found := strings.Cut(line, " ")
	if !found {
		return e, false, fmt.Errorf("the host lists %q, which cannot be read", line)
	}
	e.Path, e.Mode = name, 0o644
	kind := ""
	for _, fact := range strings.Split(facts, ";") {
		key, value, _ := strings.Cut(fact, "=")
		switch strings.ToLower(key) {
		case "type":
			kind = value
		case "size":
			e.SizeBytes, err = strconv.ParseInt(value, 10, 64)
		case "modify":
			stamp, _, _ := strings.Cut(value, ".")
			e.ModTime, err = time.Parse("20060102150405", stamp)
		case "unix.mode":
			var mode uint64
			if mode, err = strconv.ParseUint(value, 8, 32); err == nil {
				e.Mode = fs.FileMode(mode).Perm()
			}
		}
		if err != nil {
			return e, false, fmt.Errorf("the host lists %q: %w", line, err)
		}
	}
	switch lower := strings.ToLower(kind); {
	case lower == "file":
	case lower == "dir":
		e.Mode, e.SizeBytes = e.Mode|fs.ModeDir|0o100, 0
	case lower == "cdir", lower == "pdir":
		return e, false, nil
	case strings.HasPrefix(lower, "os.unix=slink"), strings.HasPrefix(lower, "os.unix=symlink"):
		_, e.Target, _ = strings.Cut(kind, ":")
		e.Mode, e.SizeBytes = fs.ModeSymlink|0o777, 0
	default:
		e.Mode |= fs.ModeIrregular
	}
	return e, true, nil
}

// parseLine reads a line of LIST as Unix servers write it, which is that of ls -l. ok is false for what is no entry. Times are in UTC,
// to the minute, or to the day when they are older than half a year before now.
func parseLine(line string, now time.Time) (e hostfs.Entry, ok bool, err error) {
	if line == "" || strings.HasPrefix(line, "total ") {
		return e, false, nil
	}
	fields, rest := make([]string, 0, 8), line
	for len(fields) < 8 {
		rest = strings.TrimLeft(rest, " ")
		field, after, found := strings.Cut(rest, " ")
		if !found {
			return e, false, fmt.Errorf("the host lists %q, which is not as Unix servers do", line)
		}
		fields, rest = append(fields, field), after
	}
	e.Path = rest
	if len(fields[0]) < 10 {
		return e, false, fmt.Errorf("the host lists %q, which is not as Unix servers do", line)
	}
	for i, c := range fields[0][1:10] {
		if c != '-' && c != 'S' && c != 'T' {
			e.Mode |= 1 << (8 - i)
		}
	}
	switch fields[0][0] {
	case '-':
		if e.SizeBytes, err = strconv.ParseInt(fields[4], 10, 64); err != nil {
			return e, false, fmt.Errorf("the host lists %q: %w", line, err)
		}
	case 'd':
		e.Mode |= fs.ModeDir
	case 'l':
		e.Mode |= fs.ModeSymlink
		e.Path, e.Target, _ = strings.Cut(rest, " -> ")
	default:
		e.Mode |= fs.ModeIrregular
	}
	e.ModTime, err = parseTime(fields[5], fields[6], fields[7], now)
	if err != nil {
		return e, false, fmt.Errorf("the host lists %q: %w", line, err)
	}
	return e, e.Path != "." && e.Path != "..", nil
}

// parseTime reads "Nov 28 02:03", of this year or the last, or "Nov 28 2025".
func parseTime(month, day, clock string, now time.Time) (time.Time, error) {
	if !strings.Contains(clock, ":") {
		return time.Parse("Jan 2 2006", month+" "+day+" "+clock)
	}
	t, err := time.Parse("Jan 2 15:04 2006", fmt.Sprint(month, " ", day, " ", clock, " ", now.Year()))
	if err != nil { // 29 February of the last year
		return time.Parse("Jan 2 15:04 2006", fmt.Sprint(month, " ", day, " ", clock, " ", now.Year()-1))
	}
	if t.After(now.Add(24 * time.Hour)) {
		t = t.AddDate(-1, 0, 0)
	}
	return t, nil
}
