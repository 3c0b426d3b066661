package kind

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"slices"
	"strconv"
	"strings"
)

// Account is what a password hash is made of.
type Account struct{ Login, Password, Salt string }

// NewSalt returns 32 hexadecimal digits.
func NewSalt() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// A form says how an application hashes passwords: a text in which {password}, {login} and {salt} stand for these, and {NAME(TEXT)} for
// what a function makes of a text, which is a form again. A form that is one function may go without its braces:
//
//	sha1({salt}{sha1({password})})
//	MODE2:{sha256({salt}{password})}
//	pbkdf2-sha256({password};{salt};260000;32):base64
//
// Functions are md5, sha1, sha256, sha384 and sha512, with *N behind the name for N rounds over the result as it is written; hmac-
// before one of them, of a key and a text, and pbkdf2- (RFC 8018), of a password, a salt, rounds and bytes. Their results are written
// as hexadecimal digits, or with :base64 or :raw behind the bracket, as base64 or bytes.
type form struct {
	text   string
	secret Account
	at     int
}

var digests = map[string]func() hash.Hash{"md5": md5.New, "sha1": sha1.New, "sha256": sha256.New, "sha384": sha512.New384,
	"sha512": sha512.New}

// mostRounds bounds how long a hash takes.
const mostRounds = 2_000_000

// isForm reports whether the scheme of a kind is a form, and no name.
func isForm(scheme string) bool { return strings.ContainsAny(scheme, "({") }

// hashByForm makes a hash. Errors: what is wrong with the form, and where.
func hashByForm(text string, of Account) (string, error) {
	f := &form{text: text, secret: of}
	if name, _, call := strings.Cut(text, "("); call && !strings.ContainsAny(name, "{}") {
		f.text = "{" + text + "}"
	}
	if !strings.Contains(f.text, "{password}") {
		return "", fmt.Errorf("hash: %s: {password} is not in it", text)
	}
	out, err := f.until("")
	if err != nil {
		return "", fmt.Errorf("hash: %s: %w", text, err)
	}
	return out, nil
}

// until reads a text up to one of the marks that end it, which it does not pass over; "" for the end.
func (f *form) until(marks string) (string, error) {
	var out strings.Builder
	for f.at < len(f.text) {
		c := f.text[f.at]
		switch {
		case strings.IndexByte(marks, c) >= 0:
			return out.String(), nil
		case c == '{':
			f.at++
			part, err := f.item()
			if err != nil {
				return "", err
			}
			out.WriteString(part)
		case c == '}' && marks != "":
			return "", fmt.Errorf("a ( is not closed")
		case c == '}':
			return "", fmt.Errorf("a } closes nothing, at character %d", f.at+1)
		default:
			out.WriteByte(c)
			f.at++
		}
	}
	if marks != "" {
		return "", fmt.Errorf("a ( is not closed")
	}
	return out.String(), nil
}

// item reads what is between braces.
func (f *form) item() (string, error) {
	end := strings.IndexAny(f.text[f.at:], "({}")
	if end < 0 {
		return "", fmt.Errorf("a { is not closed")
	}
	name := f.text[f.at : f.at+end]
	f.at += end + 1
	switch f.text[f.at-1] {
	case '(':
		out, err := f.call(name)
		if err != nil {
			return "", err
		}
		if f.at == len(f.text) || f.text[f.at] != '}' {
			return "", fmt.Errorf("a } is missing behind %s(…)", name)
		}
		f.at++
		return out, nil
	case '}':
		parts := map[string]string{"password": f.secret.Password, "login": f.secret.Login, "salt": f.secret.Salt}
		part, known := parts[name]
		if !known {
			return "", fmt.Errorf("{%s} is not known; there are {password}, {login} and {salt}", name)
		}
		return part, nil
	}
	return "", fmt.Errorf("a { is inside the name %q", name)
}

// call reads the arguments of a function, and how its result is written.
func (f *form) call(name string) (string, error) {
	var args []string
	for {
		arg, err := f.until(";)")
		if err != nil {
			return "", err
		}
		args = append(args, arg)
		f.at++
		if f.text[f.at-1] == ')' {
			break
		}
	}
	written := hex.EncodeToString
	for as, write := range map[string]func([]byte) string{":base64": base64.StdEncoding.EncodeToString,
		":raw": func(b []byte) string { return string(b) }} {
		if strings.HasPrefix(f.text[f.at:], as) {
			written = write
			f.at += len(as)
			break
		}
	}
	return digest(name, args, written)
}

func digest(name string, args []string, written func([]byte) string) (string, error) {
	bare, times, repeated := strings.Cut(name, "*")
	rounds := 1
	if repeated {
		var err error
		if rounds, err = countOf(times, mostRounds); err != nil {
			return "", err
		}
	}
	kind, of, mixed := strings.Cut(bare, "-")
	if !mixed {
		kind, of = "", bare
	}
	made, known := digests[of]
	takes := map[string]int{"": 1, "hmac": 2, "pbkdf2": 4}[kind]
	if !known || takes == 0 || repeated && kind != "" {
		return "", fmt.Errorf("there is no function %s; there are md5, sha1, sha256, sha384, sha512, each with *N, hmac- and pbkdf2-", name)
	}
	if len(args) != takes {
		return "", fmt.Errorf("%s takes %d texts, with ; between them, and has %d", name, takes, len(args))
	}
	switch kind {
	case "hmac":
		h := hmac.New(made, []byte(args[0]))
		h.Write([]byte(args[1]))
		return written(h.Sum(nil)), nil
	case "pbkdf2":
		rounds, err := countOf(args[2], mostRounds)
		if err != nil {
			return "", err
		}
		size, err := countOf(args[3], 512)
		if err != nil {
			return "", err
		}
		key, err := pbkdf2.Key(made, args[0], []byte(args[1]), rounds, size)
		return written(key), err
	}
	text := args[0]
	for range rounds {
		h := made()
		h.Write([]byte(text))
		text = written(h.Sum(nil))
	}
	return text, nil
}

func countOf(text string, most int) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > most {
		return 0, fmt.Errorf("%q is no number from 1 to %d", text, most)
	}
	return n, nil
}

// HashExample is a hash of the application, by which its form is proved.
type HashExample struct {
	Login    string `yaml:"login"`
	Password string `yaml:"password"`
	Salt     string `yaml:"salt"`
	Hash     string `yaml:"hash"`
}

// validHashes judges how passwords are hashed, and computes the examples. Those of schemes that salt by themselves are no examples.
func (a Admin) validHashes() error {
	schemes := []string{a.Hash}
	for _, h := range a.Hashes {
		schemes = append(schemes, h.Hash)
	}
	schemes = slices.DeleteFunc(schemes, func(s string) bool { return s == "" })
	for _, s := range schemes {
		if !isForm(s) && !slices.Contains(hashNames, s) {
			return fmt.Errorf("administrator.hash: %w", unknownHash(s))
		}
		if !isForm(s) {
			continue
		}
		if _, err := hashByForm(s, Account{"login", "password", "salt"}); err != nil {
			return fmt.Errorf("administrator.%w", err)
		}
	}
	for _, e := range a.Examples {
		made := func(s string) bool {
			out, err := hashByForm(s, Account{e.Login, e.Password, e.Salt})
			return err == nil && out == e.Hash
		}
		if !slices.ContainsFunc(schemes, func(s string) bool { return isForm(s) && made(s) }) {
			return fmt.Errorf("administrator.examples: no form in hash makes %.40q of the password %q", e.Hash, e.Password)
		}
	}
	return nil
}
