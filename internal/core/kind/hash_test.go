package kind

import (
	"crypto/md5"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestHashesAreThoseThatTheCMSChecks(t *testing.T) {
	hash, err := Hash("phpass", "correct horse")
	require.NoError(t, err)
	require.Regexp(t, `^\$P\$B[./0-9A-Za-z]{30}$`, hash)
	// The same, written out: 2^13 rounds over the salt that the hash carries.
	salt := hash[4:12]
	sum := md5.Sum([]byte(salt + "correct horse"))
	for range 1 << 13 {
		sum = md5.Sum(append(sum[:], "correct horse"...))
	}
	require.Equal(t, hash, "$P$B"+salt+encode64(sum[:]))
	again, err := Hash("phpass", "correct horse")
	require.NoError(t, err)
	require.NotEqual(t, hash, again, "each has a salt of its own")
	_, err = Hash("rot13", "x")
	require.ErrorContains(t, err, "rot13")
}

func TestHashesOfEveryScheme(t *testing.T) {
	for scheme, begins := range map[string]string{"phpass": "$P$B", "sha512-phpass": "$S$E", "bcrypt": "$2y$10$", "wordpress-bcrypt": "$wp$2y$10$",
		"argon2id": "$argon2id$"} {
		hash, err := Hash(scheme, "correct horse")
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(hash, begins), hash)
		require.Equal(t, scheme, HashScheme(hash))
		again, err := Hash(scheme, "correct horse")
		require.NoError(t, err)
		require.NotEqual(t, hash, again, "salted")
	}
	require.Empty(t, HashScheme("5f4dcc3b5aa765d61d8327deb882cf99"))
	admin := Admin{Hash: "phpass"}
	admin.Hashes = append(admin.Hashes, struct {
		Since string `yaml:"since"`
		Hash  string `yaml:"hash"`
	}{"10.1", "bcrypt"})
	require.Equal(t, "phpass", admin.Scheme("9.5.11"))
	require.Equal(t, "bcrypt", admin.Scheme("10.1.0"))
	require.Equal(t, "phpass", admin.Scheme(""))
}
