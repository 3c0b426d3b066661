// Package service puts the service together: records, vault, store, runs, HTTP interface.
//
//	s, err := service.Open(ctx, service.Settings{Data: "./.nestseed", Listen: "127.0.0.1:8470"})
//	fmt.Println(s.Address(), s.OwnerPassword)
//	err = s.Serve(ctx)   // until ctx ends, then runs are finished or put back
//
// With the zero Settings everything is private and local: a PostgreSQL cluster and a folder of archives
// below Data, on loopback.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"strings"
	"syscall"
	"time"

	"nestseed/internal/service/agency"
	"nestseed/internal/service/clients"
	"nestseed/internal/service/cluster"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/httpapi"
	"nestseed/internal/service/installs"
	"nestseed/internal/service/jobs"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sites"
	"nestseed/internal/service/sources"
	"nestseed/internal/service/starters"
	"nestseed/internal/service/store"
	"nestseed/internal/service/users"
	"nestseed/internal/service/vault"
	"nestseed/web"
)

// Settings of the service. Empty fields have the defaults that the documents name.
type Settings struct {
	Data     string // folder of everything the service keeps
	Listen   string
	Records  string // address of a PostgreSQL server; empty for the private one
	Store    string // folder of archives, or s3://HOST:PORT/BUCKET
	VaultKey string
	// host:port of the DNS servers that are asked where the names of sites lead, the first above all; empty for the machine's own
	DNS     string
	Metrics bool   // answer /metrics, to whoever asks
	Sample  string // file of what somebody may begin with who has nothing yet; empty for none
	Log     *slog.Logger
	Version string
}

// MemoryLimit is what the Go runtime is told to stay within, so that the whole service, which has
// buffers outside the runtime's count, stays within 256 MiB.
const MemoryLimit = 200 << 20

// Service is a service that is ready to serve.
type Service struct {
	// OwnerPassword is the owner's one-time password, on the first start only.
	OwnerPassword string

	settings Settings
	lock     *os.File
	cluster  *cluster.Cluster
	db       *records.DB
	engine   *engine.Engine
	nouns    jobs.Nouns
	hosts    *hosts.Hosts
	listener net.Listener
	http     *http.Server
}

// Open makes the service ready: takes its folder, starts its PostgreSQL, brings tables up to date, makes
// the owner the first time, and listens. What cannot be had is an error of one sentence that says what to do.
func Open(ctx context.Context, set Settings) (*Service, error) {
	if set.Log == nil {
		set.Log = slog.New(slog.DiscardHandler)
	}
	dir, err := filepath.Abs(set.Data)
	if err != nil {
		return nil, err
	}
	set.Data = dir
	s := &Service{settings: set}
	if err := s.open(ctx); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) (err error) {
	if err := s.takeFolder(); err != nil {
		return err
	}
	// Listening comes before all that takes long, so that a busy port is told at once.
	if s.listener, err = net.Listen("tcp", s.settings.Listen); err != nil {
		return fmt.Errorf("cannot listen on %s: %w; stop what listens there, or set NESTSEED_LISTEN to another address", s.settings.Listen,
			errors.Unwrap(err))
	}
	address := s.settings.Records
	if address == "" {
		if s.cluster, err = cluster.Start(ctx, s.settings.Data); err != nil {
			return err
		}
		address = s.cluster.Address()
	}
	if s.db, err = records.Open(ctx, address); err != nil {
		return err
	}
	return s.assemble(ctx)
}

func (s *Service) assemble(ctx context.Context) error {
	v, err := vault.Open(s.db, s.settings.VaultKey, filepath.Join(s.settings.Data, "vault-key"))
	if err != nil {
		return err
	}
	folder := filepath.Join(s.settings.Data, "archives")
	if s.settings.Store == "" {
		s.settings.Store = folder
	}
	st, err := store.Open(ctx, s.settings.Store, folder)
	if err != nil {
		return err
	}
	if s.engine, err = engine.New(s.db, s.settings.Log, engine.Options{Alone: s.settings.Records == "",
		Interrupted: st.DropDraft}); err != nil {
		return err
	}
	kinds, err := kinds.New(s.db, s.engine)
	if err != nil {
		return err
	}
	stored := &releases.Stored{DB: s.db, Store: st}
	s.hosts = &hosts.Hosts{DB: s.db, Vault: v, Engine: s.engine, Kinds: kinds, Scratch: filepath.Join(s.settings.Data, "databases")}
	hosts := s.hosts
	if err := os.RemoveAll(hosts.Scratch); err != nil { // of a service that was killed
		return err
	}
	sources := &sources.Sources{DB: s.db, Hosts: hosts, Engine: s.engine, Kinds: kinds}
	releases := &releases.Releases{DB: s.db, Vault: v, Stored: stored, Sources: sources, Engine: s.engine, Kinds: kinds, Data: s.settings.Data}
	s.nouns = jobs.Nouns{Sources: sources, Releases: releases, Sites: &sites.Sites{DB: s.db, Vault: v, Stored: stored, Hosts: hosts,
		Sources:  sources,
		Releases: releases, Engine: s.engine, Kinds: kinds, Data: s.settings.Data, DNS: s.resolver(),
		DNSServers: s.dnsServers()}}
	s.nouns.Installs = &installs.Installs{DB: s.db, Hosts: hosts, Kinds: kinds, Releases: releases, Sites: s.nouns.Sites, Engine: s.engine}
	jobs.Register(s.engine, s.nouns)
	if err := errors.Join(stored.Sweep(ctx), releases.SweepScratch(ctx)); err != nil {
		return err
	}
	users := &users.Users{DB: s.db}
	if err := s.makeOwner(ctx, users); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(s.settings.Data, AddressFile), []byte(s.localAddress()+"\n"), 0o644); err != nil {
		return err
	}
	console, err := fs.Sub(web.Dist, "dist")
	if err != nil {
		return err
	}
	handler := httpapi.New(httpapi.Config{DB: s.db, Vault: v, Kinds: kinds, Engine: s.engine, Hosts: hosts, Sources: sources,
		Clients: &clients.Clients{DB: s.db, Vault: v, Engine: s.engine}, Starters: &starters.Starters{DB: s.db, Engine: s.engine, Kinds: kinds},
		Releases: releases, Sites: s.nouns.Sites, Installs: s.nouns.Installs, Users: users, Agency: &agency.Agency{DB: s.db}, Log: s.settings.Log,
		Console: console, Version: s.settings.Version, Sample: s.settings.Sample, Metrics: s.settings.Metrics})
	s.http = &http.Server{Handler: handler, ReadHeaderTimeout: 20 * time.Second, IdleTimeout: 2 * time.Minute}
	return nil
}

// dnsServers are those that the settings name.
func (s *Service) dnsServers() []string {
	return strings.FieldsFunc(s.settings.DNS, func(c rune) bool { return c == ',' || c == ' ' })
}

// resolver asks DNS where the names of sites lead.
func (s *Service) resolver() *net.Resolver {
	servers := s.dnsServers()
	if len(servers) == 0 {
		return &net.Resolver{}
	}
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, servers[0])
	}}
}

// takeFolder makes the service's folder and locks it. The lock ends with the process, so a killed
// service leaves none behind.
func (s *Service) takeFolder() error {
	dir := s.settings.Data
	err := os.MkdirAll(dir, 0o755)
	if err == nil {
		s.lock, err = os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	}
	if err != nil {
		return fmt.Errorf("cannot write to %s: %w; make it writable, or set NESTSEED_DATA to another folder", dir, err)
	}
	if err := syscall.Flock(int(s.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		pid, _ := os.ReadFile(s.lock.Name())
		return fmt.Errorf("another nestseed serve (process %s) uses %s; stop it, or set NESTSEED_DATA to another folder",
			strings.TrimSpace(string(pid)), dir)
	}
	s.lock.Truncate(0)
	_, err = s.lock.WriteAt(fmt.Appendln(nil, os.Getpid()), 0)
	if err != nil {
		return fmt.Errorf("cannot write to %s: %w; make room, or set NESTSEED_DATA to another folder", dir, err)
	}
	return nil
}

// makeOwner makes the first user: a token in a file that only this user can read, and a password.
func (s *Service) makeOwner(ctx context.Context, users *users.Users) (err error) {
	s.OwnerPassword, err = users.First(ctx, func(token string) error {
		return os.WriteFile(s.TokenFile(), []byte(token+"\n"), 0o600)
	})
	if errors.Is(err, records.ErrTaken) {
		return os.Remove(s.TokenFile()) // another copy of the service was first
	}
	return err
}

// localAddress is where the service answers on this machine.
func (s *Service) localAddress() string {
	a, ok := s.listener.Addr().(*net.TCPAddr)
	if ok && a.IP.IsUnspecified() {
		return fmt.Sprintf("http://127.0.0.1:%d", a.Port)
	}
	return s.Address()
}

// AddressFile, in the service's folder, holds the address that the owner's token beside it is for.
const AddressFile = "address"

// PasswordFile, in the service's folder, holds the owner's first password where there was no terminal to show it on.
const PasswordFile = "owner-password"

// Address is where the service answers.
func (s *Service) Address() string { return "http://" + s.listener.Addr().String() }

// TokenFile is where the owner's token is.
func (s *Service) TokenFile() string { return filepath.Join(s.settings.Data, "owner-token") }

// How long what must be ended goes on after the service was told to stop, and requests that are under way. Together with the end of
// PostgreSQL it is less than five seconds.
const (
	runsEnd     = 3 * time.Second
	requestsEnd = time.Second
)

// Serve works until ctx ends. Then it stops listening, ends runs and puts them back in line, gives those that must be ended a moment, and
// stops what it started.
func (s *Service) Serve(ctx context.Context) error {
	debug.SetMemoryLimit(MemoryLimit)
	collecting, endCollecting := context.WithCancel(ctx)
	defer endCollecting()
	go collect(collecting)
	defer s.close()
	if err := s.engine.Begin(ctx); err != nil {
		return err
	}
	upkeep, endUpkeep := context.WithCancel(ctx)
	defer endUpkeep()
	go s.upkeep(upkeep)
	go s.watchNames(upkeep)
	go s.everyMinute(upkeep)
	go s.checkSources(upkeep)
	failed := make(chan error, 1)
	go func() { failed <- s.http.Serve(s.listener) }()
	var err error
	select {
	case err = <-failed:
	case <-ctx.Done():
	}
	s.settings.Log.Info("stopping")
	ctx = context.WithoutCancel(ctx)
	ended := make(chan error, 1)
	go func() {
		within, cancel := context.WithTimeout(ctx, runsEnd)
		defer cancel()
		ended <- s.engine.End(within)
	}()
	// Streams of events do not end by themselves.
	soft, cancelSoft := context.WithTimeout(ctx, requestsEnd)
	defer cancelSoft()
	if s.http.Shutdown(soft) != nil {
		s.http.Close()
	}
	if err := <-ended; err != nil {
		s.settings.Log.Info("runs are left to the next start", "because", err)
	}
	return err
}

// How much garbage may pile up, in percent of what is live: little when much is live, so that memory stays within
// its bound, and more when little is, so that collecting does not cost more than it frees.
const (
	heapGoal   = 110 << 20
	leastHeap  = 50
	mostHeap   = 200
	lookAtHeap = 200 * time.Millisecond
)

// collect keeps the collector's percentage to what is live now.
func collect(ctx context.Context) {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	tick := time.NewTicker(lookAtHeap)
	defer tick.Stop()
	for now := 0; ; {
		metrics.Read(live)
		percent := mostHeap
		if bytes := live[0].Value.Uint64(); bytes > 0 {
			percent = int(min(mostHeap, max(leastHeap, 100*float64(heapGoal)/float64(bytes)-100)))
		}
		if percent != now {
			debug.SetGCPercent(percent)
			now = percent
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// namesEvery is how often it is asked where names lead that do not lead to their hosts yet.
const namesEvery = time.Minute

// watchNames follows where the names of sites lead, as long as the service serves.
func (s *Service) watchNames(ctx context.Context) {
	tick := time.NewTicker(namesEvery)
	defer tick.Stop()
	for {
		arrived, err := s.nouns.Sites.WatchNames(ctx)
		if err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("where names lead", "error", err)
		}
		for _, site := range arrived {
			s.settings.Log.Info("the name leads to the site's host now", "site", site.Name, "address", site.Address)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// everyMinute does what is due soon after it arises, as long as the service serves: it removes pages that were left on hosts, and what was
// made late, and ends acceptances.
func (s *Service) everyMinute(ctx context.Context) {
	tick := time.NewTicker(namesEvery)
	defer tick.Stop()
	for {
		if err := s.hosts.ClearPages(ctx); err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("pages left on hosts", "error", err)
		}
		if err := s.nouns.Sites.RemoveLate(ctx); err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("what was made late", "error", err)
		}
		if err := s.db.EndAcceptances(ctx); err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("acceptances that have ended", "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// checkSources checks the sources of new releases, as long as the service serves. A source that answers slowly holds up nothing else.
func (s *Service) checkSources(ctx context.Context) {
	tick := time.NewTicker(namesEvery)
	defer tick.Stop()
	for {
		if err := s.nouns.Sources.TakeBaselines(ctx); err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("checks of sources", "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// upkeepEvery is how often rules for archives are applied and old uploads removed.
const upkeepEvery = time.Hour

// upkeep does what nobody asks for, as long as the service serves.
func (s *Service) upkeep(ctx context.Context) {
	tick := time.NewTicker(upkeepEvery)
	defer tick.Stop()
	for {
		run := records.Run{Job: "retention", Title: "Discard archives and safety copies by the rules", Target: engine.Target("archives", "all"),
			Who: "the service"}
		if err := s.engine.StartDue(ctx, run, jobs.RetentionArgs{}, s.nouns.RetentionDue); err != nil {
			s.settings.Log.Warn("rules for archives", "error", err)
		}
		if err := s.hosts.LookAtRooms(ctx); err != nil && ctx.Err() == nil {
			s.settings.Log.Warn("room of hosts", "error", err)
		}
		if err := s.nouns.Releases.StartVerifying(ctx); err != nil {
			s.settings.Log.Warn("verify releases", "error", err)
		}
		if err := s.nouns.Releases.SweepUploads(ctx, time.Now()); err != nil {
			s.settings.Log.Warn("old uploads", "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (s *Service) close() {
	if s.listener != nil {
		s.listener.Close()
	}
	if s.db != nil {
		closed := make(chan struct{})
		go func() {
			s.db.Close()
			close(closed)
		}()
		select {
		case <-closed:
		case <-time.After(requestsEnd): // whoever still uses a connection loses it with the process
		}
	}
	if s.cluster != nil {
		if err := s.cluster.Stop(); err != nil {
			s.settings.Log.Error("stop PostgreSQL", "error", err)
		}
	}
	if s.lock != nil {
		s.lock.Close()
	}
}
