package world

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
	"nestseed/internal/client"
	"nestseed/internal/wire"
)

// Request sends JSON without a client's help.
func Request(t *testing.T, method, path, body string, header map[string]string) (*http.Response, map[string]any) {
	req, err := http.NewRequest(method, Service.Address()+path, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	var out map[string]any
	json.NewDecoder(res.Body).Decode(&out)
	return res, out
}

// Working waits until a run has begun its work.
func Working(t *testing.T, svc *client.Client, id int64, enough func(wire.Run) bool) {
	t.Helper()
	for range 2000 {
		r, err := svc.Run(context.Background(), id)
		require.NoError(t, err)
		require.False(t, r.Ended(), "run %d ended before it could be disturbed: %s %s", id, r.Status, r.Error)
		if r.Status == wire.Working && enough(r) {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatal("the run does not begin")
}

// StalledSource keeps work on the base site from ending until goOn is called or the test ends: it holds a table of the
// site that the work has to read.
func StalledSource(t *testing.T) (goOn func()) {
	db, err := Stack.Admin()
	require.NoError(t, err)
	holding, err := db.Conn(t.Context())
	require.NoError(t, err)
	_, err = holding.ExecContext(t.Context(), "LOCK TABLES lad_base.lad_links WRITE")
	require.NoError(t, err)
	goOn = sync.OnceFunc(func() {
		_, err := holding.ExecContext(context.Background(), "UNLOCK TABLES")
		require.NoError(t, errors.Join(err, holding.Close(), db.Close()))
	})
	t.Cleanup(goOn)
	return goOn
}

// Restart starts the service again, after it was killed.
func Restart(t *testing.T) {
	data, listen := Service.Data, Service.Listen
	var err error
	Service, err = Serve(data, listen)
	require.NoError(t, err)
}

// Ended waits until no run is under way.
func Ended(t *testing.T, svc *client.Client) {
	t.Helper()
	all, err := svc.Runs(context.Background(), 20)
	require.NoError(t, err)
	for _, r := range all {
		if !r.Ended() {
			_, err := svc.Wait(context.Background(), r.ID, nil)
			require.NoError(t, err)
		}
	}
}

// Process is a service that runs, with what it writes.
type Process struct {
	*stack.Service
	Out *bytes.Buffer
}

// Start starts a service with further variables in its environment.
func Start(data, listen string, environment ...string) (*Process, error) {
	out := &bytes.Buffer{}
	p := &Process{&stack.Service{Binary: Binary, Dir: Dir, Data: data, Listen: listen, Env: environment, Out: out}, out}
	return p, p.Service.Start()
}

// Serve starts a service and waits until it answers.
func Serve(data, listen string) (*Process, error) {
	p, err := Start(data, listen)
	if err != nil {
		return nil, err
	}
	return p, p.Ready()
}

// Refused starts a service that cannot start, and returns what it says when it has ended.
func Refused(t *testing.T, data, listen string) string {
	t.Helper()
	p, err := Start(data, listen)
	require.NoError(t, err)
	if err := p.Ended(3 * time.Minute); err != nil {
		require.NoError(t, p.Kill())
		require.Fail(t, "it started")
	}
	return p.Out.String()
}

// Client is a client of the service as its owner.
func (p *Process) Client(t testing.TB) *client.Client {
	t.Helper()
	c, err := p.Service.Client()
	require.NoError(t, err)
	return c
}

// Archives are the names of what is in the store.
func Archives(t *testing.T) []string {
	files, err := os.ReadDir(filepath.Join(Service.Data, "archives"))
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		names = append(names, f.Name())
	}
	return names
}
