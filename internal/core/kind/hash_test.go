package kind

import (
	"crypto/md5"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestHashesAreThoseThatTheCMSChecks(t *testing.T) {
	hash, err := Hash("phpass", Account{Password: "correct horse"})
	require.NoError(t, err)
	require.Regexp(t, `^\$P\$B[./0-9A-Za-z]{30}$`, hash)
	// The same, written out: 2^13 rounds over the salt that the hash carries.
	salt := hash[4:12]
	sum := md5.Sum([]byte(salt + "correct horse"))
	for range 1 << 13 {
		sum = md5.Sum(append(sum[:], "correct horse"...))
	}
	require.Equal(t, hash, "$P$B"+salt+encode64(sum[:]))
	again, err := Hash("phpass", Account{Password: "correct horse"})
	require.NoError(t, err)
	require.NotEqual(t, hash, again, "each has a salt of its own")
	_, err = Hash("rot13", Account{Password: "x"})
	require.ErrorContains(t, err, "rot13")
}

func TestHashesOfEveryScheme(t *testing.T) {
	for scheme, begins := range map[string]string{"phpass": "$P$B", "sha512-phpass": "$S$E", "bcrypt": "$2y$10$", "wordpress-bcrypt": "$wp$2y$10$",
		"argon2id": "$argon2id$"} {
		hash, err := Hash(scheme, Account{Password: "correct horse"})
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(hash, begins), hash)
		require.Equal(t, scheme, HashScheme(hash))
		again, err := Hash(scheme, Account{Password: "correct horse"})
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

// The values were computed by PHP (md5, sha1, hash, hash_hmac, hash_pbkdf2).
func TestHashesByAFormOfTheApplicationsOwn(t *testing.T) {
	of := Account{Login: "anna", Password: "correct horse", Salt: "s4lt"}
	for form, want := range map[string]string{
		"sha1({salt}{sha1({password})})":                            "13a1c0a9487e44a77bd27490274f251427e5d73a",
		"sha1({password}{login}{salt})":                             "2e6aa255f7a98aaeb92299dc4fe6adb5fbf57b13",
		"MODE2:{sha256({salt}{password})}":                          "MODE2:c82d2c45132f6276034ddb3a8e74f65e5a89d6460eda3247d3ebafc6a07bb33a",
		"{md5({salt}{password})}:{salt}":                            "23899c6974cd8c90f085a14355699a5a:s4lt",
		"md5*15({password})":                                        "00bb66794bf3afdadda010613308660c",
		"hmac-sha256({salt};{password}):base64":                     "Dvcy/4rviqZ9hWy0/4HVb7JxwPhmkivsROJ69U/vUUg=",
		"sha512({sha1({password}):raw}{salt})":                      "84a3274b2410c8f3641cde7dec6e5d1d67c7860f672c846f387473eb23516efa15726ac35018e94a76e1cb996b8e880d15f919d9ca68af268738692ed574c3b4",
		"$pbkdf2${pbkdf2-sha256({password};{salt};1000;32):base64}": "$pbkdf2$Wf+CmjBuYPFc9KIy4yYp/nJ1RjsvJGmXv8LTPSyzxqQ=",
	} {
		got, err := Hash(form, of)
		require.NoError(t, err)
		require.Equal(t, want, got, form)
	}
	for form, says := range map[string]string{
		"sha1({salt})":                      "{password} is not in it",
		"sha99({password})":                 "there is no function sha99",
		"sha1({pasword}{password})":         "{pasword} is not known",
		"sha1({password}":                   "not closed",
		"{sha1({password})":                 "} is missing behind sha1",
		"hmac-sha1({password})":             "takes 2 texts",
		"md5*0({password})":                 "from 1 to",
		"pbkdf2-sha1({password};x;many;20)": "from 1 to",
		"sha1({password})}":                 "closes nothing",
		"hmac-md5*3({salt};{password})":     "there is no function",
	} {
		_, err := Hash(form, of)
		require.ErrorContains(t, err, says, form)
	}
	require.NoError(t, Admin{Hash: "sha1({salt}{password})", Examples: []HashExample{{"anna", "correct horse", "s4lt",
		"0d4435dd2dade9a76a31964437d4b8f0681e2ca8"}}}.validHashes())
	require.ErrorContains(t, Admin{Hash: "sha1({password}{salt})", Examples: []HashExample{{"anna", "correct horse", "s4lt",
		"0d4435dd2dade9a76a31964437d4b8f0681e2ca8"}}}.validHashes(), "no form in hash makes")
	require.ErrorContains(t, Admin{Hash: "sha1"}.validHashes(), "is phpass, sha512-phpass")
	require.Len(t, NewSalt(), 32)
	require.NotEqual(t, NewSalt(), NewSalt())
}
