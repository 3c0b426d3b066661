package users

import (
	"context"
	"crypto/rand"
	"maps"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
)

func firstPassword() string { return strings.ToLower(rand.Text()[:16]) }

// slowdown makes guessing passwords slow: after a few wrong ones, each further one must wait twice as long. Its zero value is
// ready for use.
type slowdown struct {
	mu    sync.Mutex
	tries map[string]*tries
}

type tries struct {
	wrong int
	until time.Time
}

const (
	freeTries = 4
	maxWait   = time.Minute
	maxTries  = 10_000 // names that are remembered
	hashers   = 2      // passwords that are hashed at a time: each takes 19 MiB
)

// hashing has a place for each password that is being hashed.
var hashing = make(chan struct{}, hashers)

// begin counts a try before its outcome is known, so that many at once are not free, or returns how long the key must wait before its
// next. So many tries need not wait.
func (s *slowdown) begin(key string, free int) (wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.tries[key]; t != nil {
		if wait := time.Until(t.until); wait > 0 {
			return wait
		}
	}
	if len(s.tries) >= maxTries && s.tries[key] == nil {
		now := time.Now()
		maps.DeleteFunc(s.tries, func(_ string, t *tries) bool { return t.until.Before(now) })
		for other := range s.tries { // bounded memory under a flood of made-up names; each has to wait for its hashing
			if len(s.tries) < maxTries {
				break
			}
			delete(s.tries, other)
		}
	}
	if s.tries == nil {
		s.tries = map[string]*tries{}
	}
	t := s.tries[key]
	if t == nil {
		t = &tries{}
		s.tries[key] = t
	}
	if t.wrong++; t.wrong > free {
		t.until = time.Now().Add(min(maxWait, time.Second<<min(t.wrong-free-1, 10)))
	}
	return 0
}

// right forgets the tries of a key whose password was right.
func (s *slowdown) right(key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.tries, key)
}

// compare reports whether a password is the one of a hash. Few are compared at a time.
func (s *slowdown) compare(ctx context.Context, password, hash string) bool {
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return false
	}
	defer func() { <-hashing }()
	right, err := argon2id.ComparePasswordAndHash(password, hash)
	return right && err == nil
}
