package users

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
	"nestseed/test/attack"

	"github.com/stretchr/testify/require"
)

var here = Origin{Address: "192.0.2.7"}

func TestEachFurtherWrongTryWaitsTwiceAsLong(t *testing.T) {
	s := &slowdown{}
	passed := func(key string) { s.mu.Lock(); s.tries[key].until = time.Time{}; s.mu.Unlock() }
	for range freeTries {
		require.Zero(t, s.begin("ines", freeTries))
	}
	last := time.Duration(0)
	for range 4 {
		require.Zero(t, s.begin("ines", freeTries))
		now := s.begin("ines", freeTries)
		require.Greater(t, now, last)
		last = now
		passed("ines")
	}
	require.Zero(t, s.begin("somebody else", freeTries))
	for range 40 {
		s.begin("ines", freeTries)
		passed("ines")
	}
	s.begin("ines", freeTries)
	require.LessOrEqual(t, s.begin("ines", freeTries), maxWait)
	s.right("ines")
	require.Zero(t, s.begin("ines", freeTries))
}

// A try counts when it begins: a hundred at once are not a hundred for free.
func TestTriesAtOnceCountBeforeTheirOutcomeIsKnown(t *testing.T) {
	s := &slowdown{}
	var let atomic.Int32
	var group sync.WaitGroup
	for range 100 {
		group.Go(func() {
			if s.begin("ines", freeTries) == 0 {
				let.Add(1)
			}
		})
	}
	group.Wait()
	require.Equal(t, int32(freeTries+1), let.Load())
	for i := range 2 * maxTries {
		s.begin(fmt.Sprint("made up ", i), freeTries)
	}
	require.LessOrEqual(t, len(s.tries), maxTries)
}

func TestSecretsAreLongAndKeptAsHashes(t *testing.T) {
	a, hash := NewSecret()
	b, _ := NewSecret()
	require.NotEqual(t, a, b)
	require.Greater(t, len(a), 40)
	require.Equal(t, hash, HashSecret(a))
	require.NotContains(t, string(hash), a)
	first, err := HashPassword("correct horse")
	require.NoError(t, err)
	second, err := HashPassword("correct horse")
	require.NoError(t, err)
	require.NotEqual(t, first, second, "salted")
	require.Regexp(t, `^\$argon2id\$`, first)
}

func TestALogInGivesASessionAndEndsWithThePassword(t *testing.T) {
	ctx, svc := t.Context(), &Users{DB: recordstest.Open(t)}
	kept := ""
	password, err := svc.First(ctx, func(token string) error { kept = token; return nil })
	require.NoError(t, err)
	again, err := svc.First(ctx, func(string) error { t.Fatal("there is an owner"); return nil })
	require.NoError(t, err)
	require.Empty(t, again)
	owner, err := svc.OfToken(ctx, kept)
	require.NoError(t, err)
	require.Equal(t, "owner", owner.Role)

	_, err = svc.Login(ctx, "owner", "guessed", here)
	require.ErrorIs(t, err, ErrPassword)
	_, err = svc.Login(ctx, "nobody", "guessed", here)
	require.ErrorIs(t, err, ErrPassword, "the same, whether there is such a user or not")
	in, err := svc.Login(ctx, "owner", password, here)
	session := in.Session
	require.NoError(t, err)
	_, err = svc.OfSession(ctx, session)
	require.NoError(t, err)

	ines, err := svc.Add(ctx, "owner", "ines", "builder", "a long first password")
	require.NoError(t, err)
	token, err := svc.AddToken(ctx, ines, "laptop", 1)
	require.NoError(t, err)
	require.ErrorIs(t, svc.SetPassword(ctx, ines, "ines", "guessed", "a long second password"), input.ErrWrong)
	require.NoError(t, svc.SetPassword(ctx, ines, "ines", "a long first password", "a long second password"))
	require.NoError(t, svc.SetPassword(ctx, owner, "ines", "", "a long third password"), "an owner needs not know the old one")
	in, err = svc.Login(ctx, "ines", "a long third password", here)
	session = in.Session
	require.NoError(t, err)
	require.NoError(t, svc.SetPassword(ctx, owner, "ines", "", "a long fourth password"))
	_, err = svc.OfSession(ctx, session)
	require.ErrorIs(t, err, records.ErrNotFound, "whoever was logged in with the old one is not any more")

	require.ErrorIs(t, svc.Remove(ctx, "owner", "owner"), input.ErrWrong)
	require.NoError(t, svc.RemoveToken(ctx, ines, "laptop"))
	_, err = svc.OfToken(ctx, token)
	require.ErrorIs(t, err, records.ErrNotFound)
	require.NoError(t, svc.Remove(ctx, "owner", "ines"))
	require.ErrorIs(t, svc.Remove(ctx, "owner", "ines"), records.ErrNotFound)
	for range freeTries + 1 {
		_, err = svc.Login(ctx, "ines", "guessed", here)
	}
	require.ErrorIs(t, err, ErrPassword)
	_, err = svc.Login(ctx, "ines", "guessed", here)
	require.ErrorIs(t, err, ErrSlowDown)
}

// Somebody tries passwords of the owner, and made-up names, from elsewhere and from behind the same address.
func TestAttackTheLogIn(t *testing.T) {
	ctx, svc := t.Context(), &Users{DB: recordstest.Open(t)}
	password, err := svc.First(ctx, func(string) error { return nil })
	require.NoError(t, err)
	_, err = svc.Add(ctx, "owner", "ines", "builder", "a long first password")
	require.NoError(t, err)
	in, err := svc.Login(ctx, "owner", password, here)
	require.NoError(t, err)
	known := Origin{Address: here.Address, Browser: in.Browser}
	elsewhere := Origin{Address: "198.51.100.9"}
	for range 2 * freeTries {
		_, err = svc.Login(ctx, "owner", "guessed", elsewhere)
	}
	require.ErrorIs(t, err, ErrSlowDown)
	_, err = svc.Login(ctx, "owner", password, here)
	require.NoError(t, err, "who comes from another address is not kept out")
	for range 2 * freeTries {
		_, err = svc.Login(ctx, "owner", "guessed", here)
	}
	require.ErrorIs(t, err, ErrSlowDown)
	again, err := svc.Login(ctx, "owner", password, known)
	require.NoError(t, err, "nor is a browser that was in before, behind the same address")
	require.Equal(t, known.Browser, again.Browser)
	_, err = svc.Login(ctx, "ines", "a long first password", Origin{Address: here.Address, Browser: known.Browser})
	require.NoError(t, err)
	for range 2 * freeTries {
		_, err = svc.Login(ctx, "owner", "guessed", known)
	}
	require.ErrorIs(t, err, ErrSlowDown, "a browser that is known is no way around it")
	for i := range 2 * maxTries {
		svc.slow.begin(fmt.Sprint("192.0.2.", i%250, " made up ", i), freeTries)
	}
	_, err = svc.Login(ctx, "ines", "a long first password", Origin{Address: "203.0.113.5"})
	require.NoError(t, err, "names that were never tried are not kept out by those that were")
	for range 2 * perAddress {
		svc.addresses.begin("198.51.100.77", perAddress)
	}
	_, err = svc.Login(ctx, "ines", "a long first password", Origin{Address: "198.51.100.77"})
	require.ErrorIs(t, err, ErrSlowDown, "many names from one address")
	attack.Stopped(t, "keep the owner out", "wrong passwords from elsewhere and from the same address, 20,000 names",
		"counted by address and name; browsers that were in before pass")
}
