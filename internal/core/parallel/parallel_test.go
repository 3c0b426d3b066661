package parallel

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAPanicIsAnErrorOfTheGroupAndEndsTheOthers(t *testing.T) {
	group, ctx := WithContext(context.Background())
	group.Go(func() error {
		<-ctx.Done()
		return ctx.Err()
	})
	group.Go(func() error {
		var none []int
		_ = none[len(none)]
		return nil
	})
	err := group.Wait()
	var fault *PanicError
	require.ErrorAs(t, err, &fault)
	require.Contains(t, string(fault.Stack), "parallel_test.go")
	require.ErrorContains(t, err, "a fault in Nest Seed itself: runtime error")
}

func ExampleGroup() {
	group, _ := WithContext(context.Background())
	group.Go(func() error { return nil })
	group.Go(func() error { return errors.New("the disk is full") })
	fmt.Println(group.Wait())
	// Output: the disk is full
}
