package records_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
	"nestseed/internal/service/records/recordstest"
)

func TestTokensAndSessionsLeadToWhoTheyAreOf(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	ines, err := db.AddUser(ctx, "ines", "owner", "hash-1")
	require.NoError(t, err)
	_, err = db.AddUser(ctx, "ines", "viewer", "hash-2")
	require.ErrorIs(t, err, records.ErrTaken)
	require.ErrorContains(t, err, `there is a user "ines" already`)
	tomas, err := db.AddUser(ctx, "tomas", "builder", "hash-3")
	require.NoError(t, err)

	require.NoError(t, db.AddToken(ctx, ines.ID, "laptop", []byte("token-1"), nil))
	require.NoError(t, db.AddToken(ctx, ines.ID, "night", []byte("token-2"), nil))
	require.NoError(t, db.AddToken(ctx, tomas.ID, "laptop", []byte("token-3"), nil))
	whose, err := db.UserOfToken(ctx, []byte("token-1"))
	require.NoError(t, err)
	require.Equal(t, "ines", whose.Name)
	tokens, err := db.Tokens(ctx, ines.ID)
	require.NoError(t, err)
	require.Len(t, tokens, 2)
	require.NotNil(t, tokens[0].UsedAt, "one sees which tokens are in use")
	require.Nil(t, tokens[1].UsedAt)
	require.NoError(t, db.RemoveToken(ctx, ines.ID, "laptop"))
	require.ErrorIs(t, db.RemoveToken(ctx, ines.ID, "laptop"), records.ErrNotFound)
	_, err = db.UserOfToken(ctx, []byte("token-1"))
	require.ErrorIs(t, err, records.ErrNotFound)
	_, err = db.UserOfToken(ctx, []byte("token-3"))
	require.NoError(t, err, "a token of that name of somebody else stays")

	require.NoError(t, db.AddSession(ctx, tomas.ID, []byte("old"), time.Now().Add(-time.Minute)))
	require.NoError(t, db.AddSession(ctx, tomas.ID, []byte("session"), time.Now().Add(time.Hour)))
	_, err = db.UserOfSession(ctx, []byte("old"))
	require.ErrorIs(t, err, records.ErrNotFound, "it is over")
	whose, err = db.UserOfSession(ctx, []byte("session"))
	require.NoError(t, err)
	require.Equal(t, "tomas", whose.Name)
	past, soon := time.Now().Add(-time.Minute), time.Now().Add(time.Hour)
	require.NoError(t, db.AddToken(ctx, ines.ID, "old", []byte("token-old"), &past))
	require.NoError(t, db.AddToken(ctx, ines.ID, "new", []byte("token-new"), &soon))
	_, err = db.UserOfToken(ctx, []byte("token-old"))
	require.ErrorIs(t, err, records.ErrNotFound, "it has expired")
	_, err = db.UserOfToken(ctx, []byte("token-new"))
	require.NoError(t, err)
	require.NoError(t, db.SetPassword(ctx, "tomas", "hash-4"))
	_, err = db.UserOfSession(ctx, []byte("session"))
	require.ErrorIs(t, err, records.ErrNotFound, "who has a new password logs in again")
	tomas, err = db.User(ctx, "tomas")
	require.NoError(t, err)
	require.Equal(t, "hash-4", tomas.PasswordHash)
	require.ErrorIs(t, db.SetPassword(ctx, "nobody", "x"), records.ErrNotFound)
	require.NoError(t, db.AddSession(ctx, tomas.ID, []byte("again"), time.Now().Add(time.Hour)))
	require.NoError(t, db.EndSession(ctx, []byte("again")))
	require.NoError(t, db.EndSession(ctx, []byte("again")), "logging out twice is no error")
	_, err = db.UserOfSession(ctx, []byte("again"))
	require.ErrorIs(t, err, records.ErrNotFound)

	require.NoError(t, db.RemoveUser(ctx, "tomas"))
	_, err = db.UserOfToken(ctx, []byte("token-3"))
	require.ErrorIs(t, err, records.ErrNotFound, "tokens go with their user")
	users, err := db.Users(ctx)
	require.NoError(t, err)
	require.Len(t, users, 1)
}

func TestTheAuditLogHasTheNewestFirst(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	for i := range 5 {
		require.NoError(t, db.Audit(ctx, "ines", fmt.Sprintf("revealed %d", i)))
	}
	log, err := db.AuditLog(ctx, 3)
	require.NoError(t, err)
	require.Len(t, log, 3)
	require.Equal(t, "revealed 4", log[0].What)
	require.Equal(t, "revealed 2", log[2].What)
	require.WithinDuration(t, time.Now(), log[0].At, time.Minute)
}

func TestSecretsAreTiedToTheirRecordAndSealedAnewOnlyWhereTheyStay(t *testing.T) {
	ctx, db := context.Background(), recordstest.Open(t)
	require.NoError(t, db.PutSecret(ctx, "site", "alder", "administrator", []byte("sealed-1")))
	require.NoError(t, db.PutSecret(ctx, "site", "alder", "database", []byte("sealed-2")))
	require.NoError(t, db.PutSecret(ctx, "site", "brook", "administrator", []byte("sealed-3")))
	require.NoError(t, db.PutSecret(ctx, "client", "alder", "licence", []byte("sealed-4")))
	was, err := db.Secret(ctx, "site", "alder", "administrator")
	require.NoError(t, err)

	require.NoError(t, db.PutSecret(ctx, "site", "alder", "administrator", []byte("sealed-5")))
	require.NoError(t, db.ResealSecret(ctx, was, []byte("of the old value")))
	now, err := db.Secret(ctx, "site", "alder", "administrator")
	require.NoError(t, err)
	require.Equal(t, []byte("sealed-5"), now.Sealed, "a value that was set meanwhile is not overwritten with the old one")
	require.NoError(t, db.ResealSecret(ctx, now, []byte("sealed-6")))
	now, err = db.Secret(ctx, "site", "alder", "administrator")
	require.NoError(t, err)
	require.Equal(t, []byte("sealed-6"), now.Sealed)

	require.NoError(t, db.RemoveSecrets(ctx, "site", "alder", "database"))
	_, err = db.Secret(ctx, "site", "alder", "database")
	require.ErrorIs(t, err, records.ErrNotFound)
	require.ErrorContains(t, err, "site/alder/database")
	require.NoError(t, db.RemoveSecrets(ctx, "site", "alder"))
	all, err := db.Secrets(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2, "those of another site, and of the client of the same name, stay")
}

func queued(t *testing.T, db *records.DB, job string) (id int64) {
	t.Helper()
	require.NoError(t, db.Tx(t.Context(), func(ctx context.Context) (err error) {
		id, _, err = db.AddRun(t.Context(), records.Run{Job: job, Title: job + " base", Target: "base", Who: "ines", Args: []byte(`{"a":1}`)})
		return err
	}))
	return id
}

// begin begins a run as a new instance does, and lets go of its target at once.
func begin(t *testing.T, db *records.DB, id int64) (attempt context.Context, err error) {
	t.Helper()
	run, err := db.Run(t.Context(), id)
	require.NoError(t, err)
	attempt, _, epoch, err := db.StartRun(t.Context(), recordstest.Instance(t, db), run)
	if err == nil {
		_, err := db.ReleaseLease(t.Context(), run.Target, epoch)
		require.NoError(t, err)
	}
	return attempt, err
}

func end(db *records.DB, ctx context.Context, id int64, status string, result any, sentence string) error {
	_, err := db.EndRun(ctx, id, status, result, sentence)
	return err
}

func TestWhatIsAheadIsKnownFromARunThatWasAskedForAlike(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	run := func(target, args string, ended bool) records.Run {
		var id int64
		require.NoError(t, db.Tx(ctx, func(ctx context.Context) (err error) {
			id, _, err = db.AddRun(ctx, records.Run{Job: "provision", Title: target, Target: target, Who: "ines", Args: []byte(args)})
			return err
		}))
		if ended {
			_, err := begin(t, db, id)
			require.NoError(t, err)
			require.NoError(t, end(db, ctx, id, records.Done, nil, ""))
		}
		r, err := db.Run(ctx, id)
		require.NoError(t, err)
		return r
	}
	whole := run("alder", `{"host":"preview"}`, true)
	far := run("brook", `{"host":"far"}`, true)
	tenant := run("alder-summer", `{"host":"preview","tenant_of":"courses","unchecked":true}`, true)
	for _, c := range []struct {
		target, args string
		want         records.Run
	}{
		{"cedar", `{"host":"preview"}`, whole}, {"cedar", `{"host":"far"}`, far}, {"alder", `{"host":"far"}`, whole},
		{"cedar", `{"host":"far","tenant_of":"courses","unchecked":true}`, tenant}, {"cedar", `{"refresh":true,"tenant_of":"courses"}`, tenant},
	} {
		before, err := db.RunBefore(ctx, run(c.target, c.args, false))
		require.NoError(t, err)
		require.Equal(t, c.want.ID, before.ID, "%+v", c)
	}
	_, err := db.RunBefore(ctx, whole)
	require.ErrorIs(t, err, records.ErrNotFound)
}

func TestARunIsTakenOnceEndedOnceAndListedByPages(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	var ids []int64
	for range 5 {
		ids = append(ids, queued(t, db, "survey"))
	}
	// Many workers ask for the same run.
	var taken sync.Map
	var group sync.WaitGroup
	run, err := db.Run(ctx, ids[0])
	require.NoError(t, err)
	for worker := range 8 {
		instance := recordstest.Instance(t, db)
		group.Go(func() {
			if _, _, epoch, err := db.StartRun(ctx, instance, run); err == nil {
				taken.Store(worker, epoch)
			}
		})
	}
	group.Wait()
	n := 0
	taken.Range(func(_, epoch any) bool {
		n++
		_, err := db.ReleaseLease(ctx, run.Target, epoch.(int64))
		require.NoError(t, err)
		return true
	})
	require.Equal(t, 1, n)

	r, err := db.Run(ctx, ids[0])
	require.NoError(t, err)
	require.Equal(t, records.Working, r.Status)
	require.NotNil(t, r.StartedAt)
	begun := *r.StartedAt
	require.NoError(t, db.SetProgress(ctx, ids[0], records.Progress{Step: "Walk", Fraction: 0.5, Done: progress.Amount{Files: 3}}))
	require.NoError(t, db.PutBack(ctx, ids[0], false))
	r, err = db.Run(ctx, ids[0])
	require.NoError(t, err)
	require.Equal(t, records.Waiting, r.Status)
	require.Zero(t, r.Progress.Fraction, "it begins again")
	_, err = begin(t, db, ids[0])
	require.NoError(t, err)
	require.NoError(t, end(db, ctx, ids[0], records.Done, map[string]int{"files": 3}, ""))
	r, err = db.Run(ctx, ids[0])
	require.NoError(t, err)
	require.Equal(t, 2, r.Attempt)
	require.JSONEq(t, `{"files":3}`, string(r.Result))
	require.Equal(t, begun, *r.StartedAt, "since it first began")
	_, err = begin(t, db, ids[0])
	require.ErrorIs(t, err, records.ErrNotFound, "it is over")
	require.NoError(t, db.PutBack(ctx, ids[0], false))
	r, err = db.Run(ctx, ids[0])
	require.NoError(t, err)
	require.Equal(t, records.Done, r.Status, "what is over does not wait again")

	require.NoError(t, db.AskCancel(ctx, ids[1]))
	r, err = db.Run(ctx, ids[1])
	require.NoError(t, err)
	require.Equal(t, records.Cancelled, r.Status, "nobody has begun it")
	require.NotNil(t, r.EndedAt)
	_, err = begin(t, db, ids[2])
	require.NoError(t, err)
	require.NoError(t, db.AskCancel(ctx, ids[2]))
	r, err = db.Run(ctx, ids[2])
	require.NoError(t, err)
	require.Equal(t, records.Working, r.Status, "who works on it ends it")
	require.True(t, r.CancelAsked)
	require.ErrorIs(t, db.AskCancel(ctx, ids[0]), records.ErrNotFound, "there is nothing to end")
	require.ErrorIs(t, db.AskCancel(ctx, 99999), records.ErrNotFound)

	page, err := db.Runs(ctx, 0, 2)
	require.NoError(t, err)
	require.Equal(t, []int64{ids[4], ids[3]}, []int64{page[0].ID, page[1].ID})
	queued(t, db, "build") // a newer one does not shift the next page
	page, err = db.Runs(ctx, page[1].ID, 10)
	require.NoError(t, err)
	require.Len(t, page, 3)
	require.Equal(t, ids[2], page[0].ID)
	open, err := db.RunsIn(ctx, records.Waiting, records.Working)
	require.NoError(t, err)
	require.Len(t, open, 4)
	require.Equal(t, ids[2], open[0].ID, "oldest first")
}

func TestARunThatIsCommittedIsNotCancelledAnyMore(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	first, second := queued(t, db, "undo"), queued(t, db, "undo")
	begins := func(id int64) {
		t.Helper()
		_, err := begin(t, db, id)
		require.NoError(t, err)
	}
	commit := func(id int64) bool {
		ok, err := db.CommitRun(ctx, id)
		require.NoError(t, err)
		return ok
	}
	taken := func(by int64) bool {
		r, err := db.Run(ctx, by)
		require.NoError(t, err)
		_, _, _, err = db.StartRun(ctx, recordstest.Instance(t, db), r)
		require.Error(t, err)
		return errors.Is(err, records.ErrHeld)
	}
	begins(first)
	require.True(t, taken(second))
	require.False(t, taken(first), "by another")
	require.True(t, commit(first))
	require.ErrorIs(t, db.AskCancel(ctx, first), records.ErrNotFound)
	require.NoError(t, db.PutBack(ctx, first, true))
	require.ErrorIs(t, db.AskCancel(ctx, first), records.ErrNotFound, "it waits, and must be ended all the same")
	require.True(t, taken(second), "what it has begun is ended first")
	begins(first)
	require.NoError(t, db.FailCleanup(ctx, first, "the server does not answer"))
	r, err := db.Run(ctx, first)
	require.NoError(t, err)
	require.Equal(t, []any{records.Working, "the server does not answer", false}, []any{r.Status, r.Error, r.Committed})
	require.NoError(t, db.AskCancel(ctx, first), "it can be given up")
	require.False(t, commit(first), "its end was asked for before")
	require.NoError(t, end(db, ctx, first, records.Failed, nil, "given up"))

	begins(second)
	require.True(t, commit(second))
	require.NoError(t, db.PutBack(ctx, second, false))
	require.NoError(t, db.AskCancel(ctx, second), "it begins again")
}

func TestProgressAndEndsAreHeardByWhoListens(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	id := queued(t, db, "survey")
	conn, err := db.Pool.Acquire(ctx)
	require.NoError(t, err)
	defer conn.Release()
	for _, channel := range []string{"run", "cancel"} {
		_, err = conn.Exec(ctx, "LISTEN "+channel)
		require.NoError(t, err)
	}
	hears := func(channel string) {
		t.Helper()
		wait, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		n, err := conn.Conn().WaitForNotification(wait)
		require.NoError(t, err)
		require.Equal(t, channel, n.Channel)
		require.Equal(t, fmt.Sprint(id), n.Payload)
	}
	_, err = begin(t, db, id)
	require.NoError(t, err)
	require.NoError(t, db.SetProgress(ctx, id, records.Progress{Step: "Walk"}))
	hears("run")
	require.NoError(t, db.AskCancel(ctx, id))
	hears("cancel")
	hears("run")
	require.NoError(t, end(db, ctx, id, records.Cancelled, nil, "cancelled by ines"))
	hears("run")
	r, err := db.Run(ctx, id)
	require.NoError(t, err)
	require.Nil(t, r.Result)
	require.Equal(t, "cancelled by ines", r.Error)
}

func TestALogIsReadFromWhereOneWas(t *testing.T) {
	ctx, db := t.Context(), recordstest.Open(t)
	id, other := queued(t, db, "survey"), queued(t, db, "survey")
	for i := range 4 {
		require.NoError(t, db.AddLog(ctx, id, fmt.Sprintf("line %d", i)))
		require.NoError(t, db.AddLog(ctx, other, "of another run"))
	}
	log, err := db.Log(ctx, id, 0, 2)
	require.NoError(t, err)
	require.Equal(t, "line 1", log[1].Sentence)
	log, err = db.Log(ctx, id, log[1].ID, 100)
	require.NoError(t, err)
	require.Len(t, log, 2)
	require.Equal(t, "line 3", log[1].Sentence)
}

func TestWhatIsNeededIsNotRemovedAndTheSentenceSaysByWhat(t *testing.T) {
	w := newWorld(t)
	for what, err := range map[string]error{
		`host "preview" cannot be removed`:        w.RemoveHost(w.ctx, "preview"),
		`source "base" cannot be removed`:         w.RemoveSource(w.ctx, "base"),
		`starter "music-base" cannot be removed`:  w.RemoveStarter(w.ctx, "music-base"),
		`client "alder-valley" cannot be removed`: w.RemoveClient(w.ctx, "alder-valley"),
	} {
		require.ErrorIs(t, err, records.ErrInUse, what)
		require.ErrorContains(t, err, what)
		require.ErrorContains(t, err, "still need it")
	}
	for _, err := range []error{w.RemoveHost(w.ctx, "x"), w.RemoveSource(w.ctx, "x"), w.RemoveStarter(w.ctx, "x"), w.RemoveClient(w.ctx, "x"),
		w.RemoveUser(w.ctx, "x")} {
		require.ErrorIs(t, err, records.ErrNotFound)
		require.ErrorContains(t, err, "there is no")
	}
	_, err := w.HostByID(w.ctx, 999)
	require.ErrorIs(t, err, records.ErrNotFound)
	_, err = w.SourceByID(w.ctx, 999)
	require.ErrorIs(t, err, records.ErrNotFound)
	_, err = w.ReleaseByID(w.ctx, 999)
	require.ErrorIs(t, err, records.ErrNotFound)
}

func TestOnlyWhatTheServiceHasWrittenAndNothingNamesIsAStray(t *testing.T) {
	w := newWorld(t)
	run := w.run(t)
	for _, name := range []string{"1.zip", "2.zip", "copy-1.zip", "lost.zip"} {
		require.NoError(t, w.AddStored(w.ctx, name, run))
		require.NoError(t, w.AddStored(w.ctx, name, run), "twice is no error")
	}
	require.NoError(t, w.AddSiteCopy(w.ctx, records.SiteCopy{SiteID: w.site.ID, Why: records.CopyAsked, Archive: "copy-1.zip",
		RunID: w.site.RunID, Plan: w.site.Plan, Result: w.site.Result, ReleaseID: &w.releases[0].ID}))
	strays := func() (names []string) {
		t.Helper()
		all, err := w.Strays(w.ctx)
		require.NoError(t, err)
		for _, s := range all {
			names = append(names, s.Name)
		}
		return names
	}
	idle := func() bool {
		is, err := w.Idle(w.ctx, run)
		require.NoError(t, err)
		return is
	}
	require.Equal(t, []string{"lost.zip"}, strays())
	require.True(t, idle())
	_, err := begin(t, w.DB, run)
	require.NoError(t, err)
	require.Empty(t, strays(), "its run still works")
	require.False(t, idle())
	require.NoError(t, end(w.DB, w.ctx, run, records.Failed, nil, "x"))
	_, err = w.Discard(w.ctx, w.releases[1].ID, "by ines")
	require.NoError(t, err)
	copies, err := w.SiteCopies(w.ctx, w.site.ID)
	require.NoError(t, err)
	require.NoError(t, w.RemoveSiteCopy(w.ctx, copies[0].ID))
	require.Equal(t, []string{"2.zip", "copy-1.zip", "lost.zip"}, strays())
	require.NoError(t, w.RemoveStored(w.ctx, "lost.zip"))
	require.Equal(t, []string{"2.zip", "copy-1.zip"}, strays())
	none, err := w.Idle(w.ctx, 999_999)
	require.NoError(t, err)
	require.False(t, none, "a draft of a run that nobody knows is somebody else's")

	soon := time.Now().Add(time.Hour)
	due, err := w.ToVerify(w.ctx, time.Now(), soon)
	require.NoError(t, err)
	require.Equal(t, w.releases[0].ID, due.ID, "the other has no archive any more")
	_, err = w.ToVerify(w.ctx, time.Now(), time.Time{})
	require.ErrorIs(t, err, records.ErrNotFound, "none is old enough")
	require.NoError(t, w.SetVerified(w.ctx, w.releases[0].ID, 2))
	_, err = w.ToVerify(w.ctx, time.Now().Add(-time.Hour), soon)
	require.ErrorIs(t, err, records.ErrNotFound, "it was verified just now")
	r, err := w.ReleaseByID(w.ctx, w.releases[0].ID)
	require.NoError(t, err)
	require.Equal(t, 2, r.Faults)
	require.NotNil(t, r.VerifiedAt)
	require.NoError(t, w.SetContents(w.ctx, r.ID, []byte("index")))
	index, err := w.Contents(w.ctx, r.ID)
	require.NoError(t, err)
	require.Equal(t, []byte("index"), index)
	require.NoError(t, w.SetDifference(w.ctx, "music-base@2", records.Difference{Sentence: "2 MB larger"}))
	r, err = w.Release(w.ctx, "music-base@2")
	require.NoError(t, err)
	require.Equal(t, "2 MB larger", r.Difference.Sentence)
	require.ErrorIs(t, w.SetDifference(w.ctx, "music-base@9", records.Difference{}), records.ErrNotFound)
	list, err := w.Releases(w.ctx, "music-base")
	require.NoError(t, err)
	require.Len(t, list, 2)
	list, err = w.Releases(w.ctx, "")
	require.NoError(t, err)
	require.Len(t, list, 2)
	list, err = w.Releases(w.ctx, "another")
	require.NoError(t, err)
	require.Empty(t, list)
}

// Two attempts at a run: what the one writes that was overtaken is refused, wherever it writes.
func TestAnAttemptThatWasOvertakenWritesNothing(t *testing.T) {
	w := newWorld(t)
	id := w.run(t)
	old, err := begin(t, w.DB, id)
	require.NoError(t, err)
	require.NoError(t, w.Claimed(old))
	_, _, err = w.TakeOver(w.ctx, recordstest.Instance(t, w.DB), id)
	require.ErrorIs(t, err, records.ErrNotFound, "its instance is there")
	require.NoError(t, w.SetProgress(old, id, records.Progress{Step: "Walk"}))
	_, err = w.Pool.Exec(w.ctx, "UPDATE instances SET expires_at = now() - interval '1 ms'")
	require.NoError(t, err)
	require.ErrorIs(t, w.Claimed(old), records.ErrOvertaken, "its instance has not renewed in time")
	fresh, _, err := w.TakeOver(w.ctx, recordstest.Instance(t, w.DB), id)
	require.NoError(t, err)
	site := w.site
	site.RunID = id
	for what, err := range map[string]error{
		"progress": w.SetProgress(old, id, records.Progress{}),
		"end":      end(w.DB, old, id, records.Done, nil, ""),
		"claim":    w.Claimed(old),
		"put back": w.PutBack(old, id, false),
		"cleanup":  w.FailCleanup(old, id, "x"),
		"journal":  w.AddMade(old, id, provision.Made{What: "database", Name: "x"}),
		"site":     w.AddSite(old, site, nil),
		"replace":  w.ReplaceSite(old, w.site, site, "x", 1, nil),
		"move":     w.MoveSite(old, w.site, site, "x"),
		"retire":   w.RetireSite(old, w.site.ID),
		"forget":   w.ForgetSite(old, w.site.ID),
		"user":     w.SetSiteUser(old, w.site.ID, "x"),
		"copy":     w.AddSiteCopy(old, records.SiteCopy{SiteID: w.site.ID, Why: records.CopyAsked, Archive: "x", RunID: id}),
		"release": w.AddRelease(old, records.Release{StarterID: w.releases[0].StarterID, Number: 9, Archive: "9.zip",
			Manifest: &archive.Manifest{}}, nil),
	} {
		require.ErrorIs(t, err, records.ErrOvertaken, what)
	}
	_, err = w.CommitRun(old, id)
	require.ErrorIs(t, err, records.ErrOvertaken)
	require.NoError(t, w.AddMade(fresh, id, provision.Made{What: "database", Name: "x"}))
	require.NoError(t, end(w.DB, fresh, id, records.Done, nil, ""))
}
