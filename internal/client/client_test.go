package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/wire"
)

func serve(t *testing.T, answer http.HandlerFunc) *Client {
	t.Helper()
	srv := httptest.NewServer(answer)
	t.Cleanup(srv.Close)
	return New(srv.URL+"/", "nst_token")
}

func TestRequestsCarryTheTokenAndNamesAreEscaped(t *testing.T) {
	var seen *http.Request
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		seen = r
		json.NewEncoder(w).Encode(wire.Site{Name: "x"})
	})
	s, err := c.Site(context.Background(), "a/b ü?c")
	require.NoError(t, err)
	require.Equal(t, "x", s.Name)
	require.Equal(t, "Bearer nst_token", seen.Header.Get("Authorization"))
	require.Equal(t, "/api/v1/sites/a%2Fb%20%C3%BC%3Fc", seen.URL.EscapedPath())
	require.Empty(t, seen.Header.Get("Content-Type"), "nothing is sent")
}

func TestProblemsKeepStatusTypeAndSentence(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		fmt.Fprint(w, `{"type":"urn:nestseed:problem:plan-does-not-fit","title":"Conflict","status":409,"detail":"things have changed"}`)
	})
	_, err := c.UndoSite(context.Background(), "alder", "mark")
	var p *Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, http.StatusConflict, p.Status)
	require.Equal(t, "urn:nestseed:problem:plan-does-not-fit", p.Type)
	require.Contains(t, err.Error(), "things have changed")

	c = serve(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "<h1>proxy</h1>", http.StatusBadGateway) })
	_, err = c.DropCopy(context.Background(), "alder", 3)
	require.ErrorAs(t, err, &p)
	require.Contains(t, err.Error(), "502")
	require.NotContains(t, err.Error(), "<h1>")
}

func TestAServiceThatDoesNotAnswerIsNamed(t *testing.T) {
	srv := httptest.NewServer(http.NotFoundHandler())
	srv.Close()
	_, err := New(srv.URL, "").Sites(context.Background(), SitesBy{})
	require.ErrorContains(t, err, "no service answers at "+srv.URL)
	cut, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = New(srv.URL, "").Sites(cut, SitesBy{})
	require.ErrorIs(t, err, context.Canceled)
}

func TestARunIsFollowedThroughABreak(t *testing.T) {
	var asked atomic.Int64
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "/api/v1/runs/7/events", r.URL.Path)
		w.Header().Set("Content-Type", "text/event-stream")
		send := func(status string) { fmt.Fprintf(w, "event: run\ndata: {\"id\":7,\"status\":%q}\n\n", status) }
		switch asked.Add(1) {
		case 1:
			send(wire.Working) // and the stream breaks
		case 2:
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			send(wire.Working)
			send(wire.Done)
		}
	})
	var seen []string
	run, err := c.Wait(context.Background(), 7, func(r wire.Run) { seen = append(seen, r.Status) })
	require.NoError(t, err)
	require.Equal(t, wire.Done, run.Status)
	require.Equal(t, []string{wire.Working, wire.Working, wire.Done}, seen)
	require.Equal(t, int64(3), asked.Load())
}

func TestARunThatIsNotThereIsNotWaitedFor(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNotFound)
		fmt.Fprint(w, `{"status":404,"detail":"there is no run 9"}`)
	})
	_, err := c.Wait(context.Background(), 9, nil)
	require.ErrorContains(t, err, "no run 9")
	hanging := serve(t, func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	_, err = hanging.Wait(ctx, 9, nil)
	require.ErrorIs(t, err, context.DeadlineExceeded)
}

func TestPicturesAndEndsOfRequestsWithoutAnAnswer(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasSuffix(r.URL.Path, "/1-left.png"):
			w.Write([]byte("\x89PNG"))
		case r.Method == http.MethodDelete:
			w.WriteHeader(http.StatusNoContent)
		default:
			http.NotFound(w, r)
		}
	})
	var out bytes.Buffer
	require.NoError(t, c.Picture(context.Background(), "alder", "1-left.png", &out))
	require.Equal(t, "\x89PNG", out.String())
	require.Error(t, c.Picture(context.Background(), "alder", "2-left.png", &out))
	require.NoError(t, c.WithdrawHandovers(context.Background(), "alder"))
	var p *Problem
	_, err := c.Sheet(context.Background(), "alder")
	require.True(t, errors.As(err, &p) && p.Status == http.StatusNotFound)
}
