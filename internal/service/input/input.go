// Package input marks errors that are the mistake of whoever asked, in whatever part of the service they are found.
package input

import (
	"errors"
	"fmt"
)

// ErrWrong says that what was asked for cannot be done as it was asked.
var ErrWrong = errors.New("cannot be done")

// Wrong marks an error as the caller's mistake, without a word more; nil stays nil.
func Wrong(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w%.0w", err, ErrWrong)
}

// Wrongf is a sentence that is marked as the caller's mistake.
func Wrongf(format string, args ...any) error { return Wrong(fmt.Errorf(format, args...)) }
