package cli

import (
	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

func strict() cli.Flag {
	return &cli.BoolFlag{Name: "strict", Usage: "exit with 5 for any fault, also for what the source or the site had before"}
}

// despite are the flags by which somebody decides that a change is made whatever a check finds.
func despite() cli.Flag {
	return &cli.StringSliceFlag{Name: "despite", Usage: "make the change though this `CHECK` fails; give a --reason"}
}

func despiteWhy() cli.Flag {
	return &cli.StringFlag{Name: "reason", Usage: "why, with --despite; shown on the site"}
}

func decided(c *cli.Command) wire.Despite {
	if !c.IsSet("despite") {
		return wire.Despite{}
	}
	return wire.Despite{Checks: c.StringSlice("despite"), Reason: c.String("reason")}
}
