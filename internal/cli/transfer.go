package cli

import (
	"github.com/spf13/cobra"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
)

// transferOptions are the flags that limit an upload.
type transferOptions struct {
	parallel int
	rate     string
	chosen   func() bool // --parallel was given
}

// flags adds how fast a command may send, and how many requests at once.
func (o *transferOptions) flags(cmd *cobra.Command) {
	cmd.Flags().IntVar(&o.parallel, "parallel", 0,
		"send at most this `NUMBER` of requests at once (default: what the store can take)")
	o.chosen = func() bool { return cmd.Flags().Changed("parallel") }
	o.rateFlag(cmd)
}

// rateFlag adds --rate alone, for commands that send one thing.
func (o *transferOptions) rateFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.rate, "rate", "", "send at most this `SIZE` per second, such as 2MB")
}

// limiter reads --rate; nil for no limit.
func (o *transferOptions) limiter() (*rate.Limiter, error) {
	if o.parallel < 1 && o.chosen != nil && o.chosen() {
		return nil, fault.New(fault.Usage, "usage", "--parallel %d: the minimum is 1", o.parallel)
	}
	if o.rate == "" {
		return nil, nil
	}

	size, err := project.ParseSize(o.rate)
	if err != nil || size < 1 {
		return nil, fault.New(fault.Usage, "usage", "--rate %s: not a size, such as 500kB or 2MB", o.rate)
	}
	return rate.NewLimiter(rate.Limit(size), int(max(min(size/4, 1<<20), 16<<10))), nil
}
