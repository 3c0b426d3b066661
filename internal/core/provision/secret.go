package provision

import (
	"crypto/md5"
	"crypto/rand"
	"errors"
	"math/big"
)

// alphabet of generated secrets: letters and digits that are not mistaken for one another when read
// aloud, and marks that need no quoting in PHP, SQL, shells or addresses.
const alphabet = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789-_."

// Password returns a random secret of n characters, about 5.9 bits each.
func Password(n int) string {
	out := make([]byte, n)
	for i := range out {
		k, err := rand.Int(rand.Reader, big.NewInt(int64(len(alphabet))))
		if err != nil {
			panic(err) // crypto/rand: never returns an error on a supported system
		}
		out[i] = alphabet[k.Int64()]
	}
	return string(out)
}

// Hash returns a password hash in the scheme that a kind names.
func Hash(scheme, password string) (string, error) {
	if scheme != "phpass" {
		return "", errors.New("password scheme " + scheme + " of this kind is not known")
	}
	return portableHash(password), nil
}

const hashAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// portableHash is the portable hash $P$ of Solar Designer's password hashing framework in PHP
// (public domain), which WordPress checks in all its versions: 2^13 rounds of MD5 over a salt.
func portableHash(password string) string {
	const logRounds = 13
	salt := make([]byte, 8)
	for i := range salt {
		var b [1]byte
		rand.Read(b[:])
		salt[i] = hashAlphabet[b[0]&63]
	}
	sum := md5.Sum(append(append([]byte{}, salt...), password...))
	for range 1 << logRounds {
		sum = md5.Sum(append(sum[:], password...))
	}
	return "$P$" + string(hashAlphabet[logRounds]) + string(salt) + encode64(sum[:])
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
