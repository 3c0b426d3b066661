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

	"github.com/stretchr/testify/require"
)

func TestEachFurtherWrongTryWaitsTwiceAsLong(t *testing.T) {
	s := &slowdown{}
	passed := func(key string) { s.mu.Lock(); s.tries[key].until = time.Time{}; s.mu.Unlock() }
	for range freeTries {
		require.Zero(t, s.begin("ines"))
	}
	last := time.Duration(0)
	for range 4 {
		require.Zero(t, s.begin("ines"))
		now := s.begin("ines")
		require.Greater(t, now, last)
		last = now
		passed("ines")
	}
	require.Zero(t, s.begin("somebody else"))
	for range 40 {
		s.begin("ines")
		passed("ines")
	}
	s.begin("ines")
	require.LessOrEqual(t, s.begin("ines"), maxWait)
	s.right("ines")
	require.Zero(t, s.begin("ines"))
}

// A try counts when it begins: a hundred at once are not a hundred for free.
func TestTriesAtOnceCountBeforeTheirOutcomeIsKnown(t *testing.T) {
	s := &slowdown{}
	var let atomic.Int32
	var group sync.WaitGroup
	for range 100 {
		group.Go(func() {
			if s.begin("ines") == 0 {
				let.Add(1)
			}
		})
	}
	group.Wait()
	require.Equal(t, int32(freeTries+1), let.Load())
	for i := range 2 * maxTries {
		s.begin(fmt.Sprint("made up ", i))
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

	_, _, err = svc.Login(ctx, "owner", "guessed")
	require.ErrorIs(t, err, ErrPassword)
	_, _, err = svc.Login(ctx, "nobody", "guessed")
	require.ErrorIs(t, err, ErrPassword, "the same, whether there is such a user or not")
	session, _, err := svc.Login(ctx, "owner", password)
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
	session, _, err = svc.Login(ctx, "ines", "a long third password")
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
		_, _, err = svc.Login(ctx, "ines", "guessed")
	}
	require.ErrorIs(t, err, ErrPassword)
	_, _, err = svc.Login(ctx, "ines", "guessed")
	require.ErrorIs(t, err, ErrSlowDown)
}
