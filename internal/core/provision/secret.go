package provision

import (
	"crypto/rand"
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
