package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"
)

// stages tells on the terminal what the demo does and how long each part takes; the log has all commands with their output.
type stages struct {
	log   *os.File
	start time.Time
	began time.Time // of the one that runs; zero when none does
}

func newStages(dir string) (*stages, error) {
	log, err := os.OpenFile(filepath.Join(dir, "demo.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	return &stages{log: log, start: time.Now()}, err
}

// begin ends the stage before, and tells what comes now.
func (s *stages) begin(format string, args ...any) {
	s.end()
	what := fmt.Sprintf(format, args...)
	fmt.Printf("  %-96s", what)
	fmt.Fprintf(s.log, "\n── %s\n", what)
	s.began = time.Now()
}

func (s *stages) end() {
	if !s.began.IsZero() {
		fmt.Printf("%4.0f s\n", time.Since(s.began).Seconds())
	}
	s.began = time.Time{}
}

// out is where commands write.
func (s *stages) out() io.Writer { return s.log }

func (s *stages) seconds() float64 { return time.Since(s.start).Seconds() }
