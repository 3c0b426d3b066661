package confine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/test/attack"
)

var tries = Register("tries", func(args []string, in io.Reader, out io.Writer) error {
	switch args[0] {
	case "upper":
		text, err := io.ReadAll(in)
		fmt.Fprint(out, strings.ToUpper(string(text)))
		return err
	case "fails":
		return errors.New("it cannot be read: line 3")
	case "memory":
		var kept [][]byte
		for range 4096 {
			kept = append(kept, bytes.Repeat([]byte("x"), 1<<20))
		}
		fmt.Fprint(out, len(kept))
	case "without end":
		for {
			if _, err := out.Write(make([]byte, 1<<16)); err != nil {
				return err
			}
		}
	case "looks":
		_, network := net.DialTimeout("tcp", args[1], time.Second)
		_, file := os.ReadFile(args[2])
		fmt.Fprintln(out, network == nil, file == nil, os.Getuid(), os.WriteFile("/tmp/nestseed-confined", []byte("x"), 0o644) == nil, len(os.Environ()))
	}
	return nil
})

func TestWhatIsWrittenComesBack(t *testing.T) {
	out, err := tries.Run(t.Context(), []byte("lessons"), 100, "upper")
	require.NoError(t, err)
	require.Equal(t, "LESSONS", string(out))
	_, err = tries.Run(t.Context(), nil, 100, "fails")
	require.EqualError(t, err, "it cannot be read: line 3")
	_, err = tries.Run(t.Context(), []byte("lessons"), 3, "upper")
	require.ErrorIs(t, err, ErrTooMuch, "what it writes is bounded, too")
}

func TestAttackMemoryOfAConfinedProcess(t *testing.T) {
	_, err := tries.Run(t.Context(), nil, 100, "memory")
	require.ErrorIs(t, err, ErrTooMuch)
	attack.Stopped(t, "4 GB of memory", "in a confined process", fmt.Sprintf("%d MiB for each, then it is ended and the service goes on", MemoryBytes>>20))
}

func TestOneThatIsLeftEnds(t *testing.T) {
	r, err := tries.Start(t.Context(), nil, "without end")
	require.NoError(t, err)
	_, err = io.ReadFull(r, make([]byte, 1<<20))
	require.NoError(t, err)
	require.NoError(t, r.Close())
	ctx, cancel := context.WithCancel(t.Context())
	r, err = tries.Start(ctx, nil, "without end")
	require.NoError(t, err)
	cancel()
	_, err = io.Copy(io.Discard, r)
	require.Error(t, err)
	require.NoError(t, r.Close())
}

func TestAttackFromAConfinedProcess(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can give up rights")
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	secret := t.TempDir() + "/vault-key"
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	out, err := tries.Run(t.Context(), nil, 100, "looks", listener.Addr().String(), secret)
	require.NoError(t, err)
	require.Equal(t, "false false 65534 false 2\n", string(out))
	attack.Stopped(t, "code in a confined process", "reads the vault's key, writes a file, connects to loopback",
		"the account nobody, a network of its own without interfaces, no file may grow")
}
