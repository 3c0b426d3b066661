package sitedb

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"net/url"
	"strings"
)

// pinPrefix begins the value of tls in the address of a database server whose certificate is known by its SHA-256.
const pinPrefix = "sha256:"

// Pinned returns the TLS configuration for an address with tls=sha256:DIGITS, which takes the certificate with that sum and no other,
// whoever has signed it and whatever it is for; nil for other addresses.
func Pinned(u *url.URL) (*tls.Config, error) {
	digits, is := strings.CutPrefix(u.Query().Get("tls"), pinPrefix)
	if !is {
		return nil, nil
	}
	want, err := hex.DecodeString(strings.ReplaceAll(digits, ":", ""))
	if err != nil || len(want) != sha256.Size {
		return nil, errors.New("tls=sha256: in the database address needs the SHA-256 of the server's certificate, in 64 hexadecimal digits")
	}
	return &tls.Config{MinVersion: tls.VersionTLS12,
		InsecureSkipVerify: true, //nolint:gosec // VerifyConnection compares the certificate itself
		VerifyConnection: func(state tls.ConnectionState) error {
			if sum := sha256.Sum256(state.PeerCertificates[0].Raw); string(sum[:]) != string(want) {
				return errors.New("the database server shows another certificate than the one that its address names, sha256:" +
					hex.EncodeToString(sum[:]))
			}
			return nil
		}}, nil
}
