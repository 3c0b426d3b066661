package input

import (
	"context"
	"errors"
	"io"
	"net"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5/pgconn"
)

// Sentence is what people are told of an error: what drivers and the system say about connections, disks and servers is put into words
// that say what to do. Everything else is a sentence already.
func Sentence(err error) string {
	text := err.Error()
	for _, leaf := range leaves(err) {
		if plain := plainly(leaf); plain != "" {
			text = strings.ReplaceAll(text, leaf.Error(), plain)
		}
	}
	return text
}

// leaves are the errors that an error consists of, from the outside in: one that is known by its type comes before what it wraps.
func leaves(err error) (out []error) {
	for err != nil {
		out = append(out, err)
		switch e := err.(type) {
		case interface{ Unwrap() []error }:
			for _, inner := range e.Unwrap() {
				out = append(out, leaves(inner)...)
			}
			return out
		default:
			err = errors.Unwrap(err)
		}
	}
	return out
}

// plainly is what an error of a driver or of the system means; "" for any other.
func plainly(err error) string {
	switch e := err.(type) {
	case *pgconn.ConnectError:
		return "PostgreSQL does not answer; see that it runs, and try again"
	case *pgconn.PgError:
		return ofPostgres(e)
	case *net.OpError:
		if e.Addr != nil && (errors.Is(e, syscall.ECONNREFUSED) || errors.Is(e, syscall.EHOSTUNREACH) || errors.Is(e, syscall.ENETUNREACH)) {
			return "nothing answers at " + e.Addr.String() + "; see that the server runs there"
		}
		if errors.Is(e, syscall.ECONNRESET) || errors.Is(e, syscall.EPIPE) {
			return "the connection was cut off; try again"
		}
	case *net.DNSError:
		if e.IsNotFound {
			return "the name " + e.Name + " is not known; correct it, or wait until it is entered"
		}
		return "the name server does not answer about " + e.Name + "; try again"
	case syscall.Errno:
		if e == syscall.ENOSPC || e == syscall.EDQUOT {
			return "the disk is full; make room there"
		}
	}
	switch {
	case err == io.EOF, err == io.ErrUnexpectedEOF, err == net.ErrClosed, err.Error() == "invalid connection",
		err.Error() == "driver: bad connection", err.Error() == "conn closed":
		return "the connection was cut off; try again"
	case err == context.Canceled:
		return "it was stopped before it had ended"
	case err == context.DeadlineExceeded:
		return "there was no answer in time; try again"
	}
	return ""
}

// ofPostgres says what to do about an error of PostgreSQL (its manual, appendix A) that is of its server and not of what was asked.
func ofPostgres(e *pgconn.PgError) string {
	switch {
	case e.Code == "53100":
		return "the disk of PostgreSQL is full; make room there"
	case strings.HasPrefix(e.Code, "53"):
		return "PostgreSQL has no room for more (" + e.Message + "); end what else uses it, or give it more"
	case strings.HasPrefix(e.Code, "57P0"), strings.HasPrefix(e.Code, "08"):
		return "PostgreSQL was stopped or restarted meanwhile; try again"
	case e.Code == "55P03", e.Code == "40P01", e.Code == "40001":
		return "somebody else was changing the same; try again"
	}
	return ""
}
