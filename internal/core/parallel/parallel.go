// Package parallel runs functions side by side, so that a fault in one of them ends the work it belongs to and not the
// program: a panic becomes an error of the group, with the stack in it.
//
//	group, ctx := parallel.WithContext(ctx)
//	group.Go(func() error { … })
//	err := group.Wait()
//
// It is errgroup with that one difference. Goroutines that are not in a group call Recover themselves.
package parallel

import (
	"context"
	"fmt"
	"runtime/debug"

	"golang.org/x/sync/errgroup"
)

// Group is functions that run side by side. The first error is that of the group. The zero Group is ready for use.
type Group struct{ group errGroup }

// errGroup is what an errgroup.Group does; its zero value is one without a context.
type errGroup struct {
	*errgroup.Group
	zero errgroup.Group
}

func (e *errGroup) get() *errgroup.Group {
	if e.Group != nil {
		return e.Group
	}
	return &e.zero
}

// PanicError is a panic that was caught. Its sentence is for people; the stack is for the log.
type PanicError struct {
	Value any
	Stack []byte
}

func (e *PanicError) Error() string { return fmt.Sprintf("a fault in Nest Seed itself: %v", e.Value) }

// WithContext returns a group, and a context that ends with the first error.
func WithContext(ctx context.Context) (*Group, context.Context) {
	g, ctx := errgroup.WithContext(ctx)
	return &Group{errGroup{Group: g}}, ctx
}

// Go runs a function in a goroutine of its own.
func (g *Group) Go(f func() error) {
	g.group.get().Go(func() (err error) {
		defer Recover(&err)
		return f()
	})
}

// SetLimit bounds how many functions run at a time.
func (g *Group) SetLimit(n int) { g.group.get().SetLimit(n) }

// Wait waits for all functions and returns the first error.
func (g *Group) Wait() error { return g.group.get().Wait() }

// Recover turns a panic of the function that defers it into its error.
func Recover(err *error) {
	if v := recover(); v != nil {
		*err = &PanicError{Value: v, Stack: debug.Stack()}
	}
}
