package kind

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"strings"

	"github.com/alexedwards/argon2id"
	"golang.org/x/crypto/bcrypt"
)

// hashNames are the schemes that have names, and salts of their own.
var hashNames = []string{"phpass", "sha512-phpass", "bcrypt", "wordpress-bcrypt", "argon2id"}

// Hash returns a password hash in the scheme that a kind names, or in the form that it gives. What has a salt of its own takes none
// from of.
func Hash(scheme string, of Account) (string, error) {
	password := of.Password
	if isForm(scheme) {
		return hashByForm(scheme, of)
	}
	switch scheme {
	case "phpass":
		return portableHash(password), nil
	case "sha512-phpass":
		return stretchedHash(password), nil
	case "bcrypt":
		hash, err := bcrypt.GenerateFromPassword([]byte(password), bcryptCost)
		// PHP writes and knows the same scheme under its later name (PHP manual, password_hash).
		return strings.Replace(string(hash), "$2a$", "$2y$", 1), err
	case "wordpress-bcrypt":
		// The hash of a hash, so that long passwords count whole, with a mark in front (WordPress 6.8, wp_hash_password).
		sum := hmac.New(sha512.New384, []byte("wp-sha384"))
		sum.Write([]byte(password))
		hash, err := bcrypt.GenerateFromPassword([]byte(base64.StdEncoding.EncodeToString(sum.Sum(nil))), bcryptCost)
		return "$wp" + strings.Replace(string(hash), "$2a$", "$2y$", 1), err
	case "argon2id":
		return argon2id.CreateHash(password, argon2id.DefaultParams)
	}
	return "", unknownHash(scheme)
}

func unknownHash(scheme string) error {
	return fmt.Errorf("passwords of the scheme %q are not made; it is %s, or a form like sha1({salt}{password})", scheme,
		strings.Join(hashNames, ", "))
}

// hashForms are how hashes of a scheme begin.
var hashForms = []struct{ begins, scheme string }{{"$P$", "phpass"}, {"$S$", "sha512-phpass"}, {"$2y$", "bcrypt"}, {"$2b$", "bcrypt"},
	{"$argon2id$", "argon2id"}, {"$wp$2y$", "wordpress-bcrypt"}}

// HashScheme returns the scheme that a hash is of; "" for one that is not known.
func HashScheme(hash string) string {
	for _, f := range hashForms {
		if strings.HasPrefix(hash, f.begins) {
			return f.scheme
		}
	}
	return ""
}

const bcryptCost = 10

const hashAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

func hashSalt() []byte {
	salt := make([]byte, 8)
	rand.Read(salt)
	for i := range salt {
		salt[i] = hashAlphabet[salt[i]&63]
	}
	return salt
}

// portableHash is the portable hash $P$ of Solar Designer's password hashing framework in PHP
// (public domain): 2^13 rounds of MD5 over a salt.
func portableHash(password string) string {
	const logRounds = 13
	salt := hashSalt()
	sum := md5.Sum(append(append([]byte{}, salt...), password...))
	for range 1 << logRounds {
		sum = md5.Sum(append(sum[:], password...))
	}
	return "$P$" + string(hashAlphabet[logRounds]) + string(salt) + encode64(sum[:])
}

// stretchedHash is the same with SHA-512 in the place of MD5, cut to 55 characters.
func stretchedHash(password string) string {
	const logRounds = 16
	salt := hashSalt()
	sum := sha512.Sum512(append(append([]byte{}, salt...), password...))
	for range 1 << logRounds {
		sum = sha512.Sum512(append(sum[:], password...))
	}
	return ("$S$" + string(hashAlphabet[logRounds]) + string(salt) + encode64(sum[:]))[:55]
}

// encode64 writes 6 bits a character, least significant first.
func encode64(in []byte) string {
	var out []byte
	for i := 0; i < len(in); i += 3 {
		v, n := 0, min(3, len(in)-i)
		for j := range n {
			v |= int(in[i+j]) << (8 * j)
		}
		for j := 0; j <= n; j++ {
			out = append(out, hashAlphabet[v>>(6*j)&63])
		}
	}
	return string(out)
}
