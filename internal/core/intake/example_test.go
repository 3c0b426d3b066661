package intake_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/foreign"
	"nestseed/internal/core/hostfs/local"
	"nestseed/internal/core/intake"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
)

func ExampleOpen() {
	dir, err := os.MkdirTemp("", "intake")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	scratch, err := local.Open(dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer scratch.Close()
	kinds, err := kind.Stock()
	if err != nil {
		fmt.Println(err)
		return
	}
	text := "a letter to the school"
	_, err = intake.Open(context.Background(), intake.Input{Scratch: scratch, Kinds: kinds, Limits: foreign.DefaultLimits(1 << 30),
		Files: []intake.File{{Name: "letter.txt", R: strings.NewReader(text), SizeBytes: int64(len(text))}}}, progress.Discard)
	fmt.Println(errors.Is(err, archive.ErrNotOurs))
	// Output: true
}
