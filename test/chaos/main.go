// Command chaos runs three copies of the service on the same records. At random moments during every kind of run it kills some of them, lets them
// stand still and come back after another has taken over, ends their sessions, or takes a database server away, and looks after each whether
// anything is half made, lost, or left that no record names.
//
//	go run ./test/chaos -rounds 200 -seed 1
//	go run ./test/chaos -rounds 100 -fault "pause and return"
//
// The same seed gives the same rounds; when exactly a kill comes also depends on the machine. It stops at the first fault and
// says which round it was in.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"
)

func main() {
	rounds := flag.Int("rounds", 200, "how many faults")
	seed := flag.Uint64("seed", uint64(time.Now().Unix()), "of the random choices")
	only := flag.String("fault", "", "the one that happens; empty for any")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	fmt.Printf("chaos: %d rounds, seed %d\n", *rounds, *seed)
	tally, err := run(ctx, *rounds, *seed, *only, os.Stdout)
	fmt.Print(tally)
	if err != nil {
		fmt.Fprintln(os.Stderr, "chaos:", err)
		os.Exit(1)
	}
}
