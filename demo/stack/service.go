package stack

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"nestseed/internal/client"
)

// Service is Nest Seed's service as a process.
//
//	s := &stack.Service{Binary: "bin/nestseed", Data: dir, Listen: "127.0.0.1:8470", Out: &log}
//	err := s.Start(); err = s.Ready()
//	defer s.Stop()
type Service struct {
	Binary   string
	Dir      string // working folder; empty is that of the caller
	Data     string // NESTSEED_DATA
	Listen   string // NESTSEED_LISTEN
	Env      []string
	Out      io.Writer
	Detached bool // it goes on when the caller ends; Out is then a file

	cmd   *exec.Cmd
	ended chan struct{}
	err   error // of the process; valid when ended is closed
}

// Start starts the process and does not wait until it answers.
func (s *Service) Start() error {
	s.cmd = exec.Command(s.Binary, "serve")
	s.cmd.Dir = s.Dir
	s.cmd.Env = append(append(os.Environ(), "NESTSEED_DATA="+s.Data, "NESTSEED_LISTEN="+s.Listen), s.Env...)
	s.cmd.Stdout, s.cmd.Stderr = s.Out, s.Out
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: s.Detached}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	s.ended = make(chan struct{})
	go func() {
		s.err = s.cmd.Wait()
		close(s.ended)
	}()
	return nil
}

// Ready waits until the service answers that it is ready. A process that ends before is an error, with what it wrote.
func (s *Service) Ready() error {
	for deadline := time.Now().Add(3 * time.Minute); time.Now().Before(deadline); {
		select {
		case <-s.ended:
			return fmt.Errorf("the service ended: %w\n%s", s.err, s.said())
		case <-time.After(20 * time.Millisecond):
		}
		if s.Answers() {
			return nil
		}
	}
	return fmt.Errorf("the service does not answer\n%s", s.said())
}

// Answers reports whether a service at this address is ready.
func (s *Service) Answers() bool {
	res, err := http.Get(s.Address() + "/readyz")
	if err != nil {
		return false
	}
	res.Body.Close()
	return res.StatusCode == http.StatusOK
}

// said is what the process wrote, where that can be read.
func (s *Service) said() string {
	switch out := s.Out.(type) {
	case fmt.Stringer:
		return out.String()
	case *os.File:
		text, _ := os.ReadFile(out.Name())
		return string(text)
	}
	return ""
}

// Address is where the service is reached.
func (s *Service) Address() string { return "http://" + s.Listen }

// Client returns a client of the service as its owner.
func (s *Service) Client() (*client.Client, error) {
	token, err := os.ReadFile(filepath.Join(s.Data, "owner-token"))
	return client.New(s.Address(), strings.TrimSpace(string(token))), err
}

// Ended waits until the process has ended by itself, for at most this long.
func (s *Service) Ended(atMost time.Duration) error {
	select {
	case <-s.ended:
		return nil
	case <-time.After(atMost):
		return errors.New("the service does not end")
	}
}

// Stop ends the service as its operator does, and returns the error of its process.
func (s *Service) Stop() error {
	s.cmd.Process.Signal(syscall.SIGTERM)
	if err := s.Ended(3 * time.Minute); err != nil {
		return err
	}
	return s.err
}

// Kill ends the service as the loss of power would.
func (s *Service) Kill() error {
	err := s.cmd.Process.Kill()
	<-s.ended
	return err
}

// Pid is the number of the process.
func (s *Service) Pid() int { return s.cmd.Process.Pid }
