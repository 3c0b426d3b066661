package check

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"encoding/hex"
	"io"
	"strings"
	"unicode/utf8"
)

// Bounds of what is opened to be searched.
const (
	mostOpened = 16 << 20 // bytes, of one value
	mostLayers = 4
)

// openers open what applications pack values into: compression as PHP has it (RFC 1950, 1952, 1951), base64 in its four alphabets
// (RFC 4648), and hexadecimal digits, as PostgreSQL shows bytes. Each returns nothing for what is not in its form.
var openers = []func([]byte) io.Reader{
	func(v []byte) io.Reader {
		if v[0]&0x0f != 8 || (int(v[0])*256+int(v[1]))%31 != 0 {
			return nil
		}
		return opens(zlib.NewReader(bytes.NewReader(v)))
	},
	func(v []byte) io.Reader {
		if !bytes.HasPrefix(v, []byte("\x1f\x8b")) {
			return nil
		}
		return opens(gzip.NewReader(bytes.NewReader(v)))
	},
	func(v []byte) io.Reader {
		if v[0]>>1&3 == 3 || utf8.Valid(v) { // no kind of block
			return nil
		}
		return flate.NewReader(bytes.NewReader(v))
	},
	func(v []byte) io.Reader {
		digits, is := bytes.CutPrefix(v, []byte(`\x`))
		if !is {
			return nil
		}
		return hex.NewDecoder(bytes.NewReader(digits))
	},
	func(v []byte) io.Reader {
		text := bytes.TrimRight(bytes.TrimSpace(v), "=")
		if len(text) < 12 || bytes.ContainsFunc(text, func(r rune) bool {
			return r >= utf8.RuneSelf || !strings.ContainsRune("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_\r\n", r)
		}) {
			return nil
		}
		text = []byte(strings.NewReplacer("-", "+", "_", "/").Replace(string(text)))
		return base64.NewDecoder(base64.RawStdEncoding, bytes.NewReader(text))
	},
}

func opens(r io.Reader, err error) io.Reader {
	if err != nil {
		return nil
	}
	return r
}

// open calls each with what a value has inside that is packed as a whole, at every layer. It reports whether something in it was too
// large to be opened.
func open(v []byte, layer int, each func(inside []byte)) (tooLarge bool) {
	if layer == mostLayers || len(v) < 12 {
		return false
	}
	for _, opener := range openers {
		r := opener(v)
		if r == nil {
			continue
		}
		inside, err := io.ReadAll(io.LimitReader(r, mostOpened+1))
		switch {
		case len(inside) > mostOpened:
			tooLarge = true
		case err == nil && len(inside) > 0:
			each(inside)
			tooLarge = open(inside, layer+1, each) || tooLarge
		}
	}
	return tooLarge
}
