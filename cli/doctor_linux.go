package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakbarrel/agent/doctor"
)

const doctorsHere = `
Where the package is installed it tells which rights its unit lacks for the plan;
--drop-in writes out what gives them.
`

// doctorHere is what the command doctor answers on this system alone.
type doctorHere struct{ dropIn bool }

func (h *doctorHere) flags(c *cobra.Command) {
	c.Flags().BoolVar(&h.dropIn, "drop-in", false, "write out what gives the unit of the package the rights that the plan needs")
}

func (h *doctorHere) answer(ctx context.Context, planFile string) (text string, done bool, err error) {
	if h.dropIn {
		text, err = doctor.WriteDropIn(ctx, planFile)
	}
	return text, h.dropIn, err
}
