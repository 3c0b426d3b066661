// Package hosts is what the service does with hosts: add, change and remove them, reach their files and database servers, find
// out what runs on them, and tell which addresses are theirs.
package hosts

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
	"nestseed/internal/service/vault"
)

// Hosts is the hosts of the records.
type Hosts struct {
	DB     *records.DB
	Vault  *vault.Vault
	Engine *engine.Engine
	Kinds  []*kind.Kind
}

// Open connects to a host's files and database server. Both are the caller's to close.
func (s *Hosts) Open(ctx context.Context, h records.Host) (hostfs.FS, sitedb.Server, error) {
	fsys, err := hostfs.Open(h.Files)
	if err != nil {
		return nil, nil, fmt.Errorf("host %s: %w", h.Name, err)
	}
	address, err := s.WithPassword(ctx, h.Database, "host", h.Name)
	if err != nil {
		fsys.Close()
		return nil, nil, err
	}
	server, err := sitedb.Connect(address)
	if err != nil {
		fsys.Close()
		return nil, nil, fmt.Errorf("host %s: %w", h.Name, err)
	}
	return fsys, server, nil
}

// OpenByID connects to the host with a number.
func (s *Hosts) OpenByID(ctx context.Context, id int64) (hostfs.FS, sitedb.Server, error) {
	h, err := s.DB.HostByID(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	return s.Open(ctx, h)
}

// WithPassword puts the password from the vault, if there is one, into a database address.
func (s *Hosts) WithPassword(ctx context.Context, address, noun, owner string) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("database address of %s %s cannot be read", noun, owner)
	}
	secret, err := s.Vault.Get(ctx, noun, owner, "database")
	if errors.Is(err, records.ErrNotFound) {
		return address, nil
	}
	if err != nil {
		return "", err
	}
	u.User = url.UserPassword(u.User.Username(), secret)
	return u.String(), nil
}

// Owns reports whether a host and port is that of a host's sites.
func Owns(h records.Host, hostport string) bool {
	u, err := url.Parse(strings.ReplaceAll(h.Address, "{name}", "0name0"))
	if err != nil {
		return false
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	before, after, pattern := strings.Cut(strings.ToLower(u.Hostname())+":"+port, "0name0")
	if !pattern {
		return hostport == before
	}
	name := strings.TrimSuffix(strings.TrimPrefix(hostport, before), after)
	return strings.HasPrefix(hostport, before) && strings.HasSuffix(hostport, after) && name != "" && !strings.ContainsAny(name, ".:[]")
}

// Reach says how a site on a host is reached. It may be inside a private network where the host's own address is.
func Reach(h records.Host, address string) check.Reach {
	r := check.Reach{Address: address, Connect: h.Connect}
	if u, err := url.Parse(address); err == nil {
		port := u.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
		}
		r.Private = Owns(h, strings.ToLower(u.Hostname())+":"+port)
	}
	return r
}

// Fill puts a site's name and host name into a host's pattern.
func Fill(pattern, name, address string) (string, error) {
	u, err := rewrite.ParseAddress(address)
	if err != nil {
		return "", err
	}
	return strings.NewReplacer("{name}", name, "{host}", u.Hostname()).Replace(pattern), nil
}
