package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"oakbarrel/core/plan"
)

func (a *app) planCommand() *cobra.Command {
	return group("plan", "Check a plan, and see what it does before it does it", `  oakbarrel plan check lantern-bay/tide-gw/plan.yaml
  oakbarrel plan explain lantern-bay/tide-gw/plan.yaml --line '<34>door-badge[7]: badge 7714 refused'`,
		"plan check FILE, explain FILE, matrix FILE, compare OLD NEW, preview FILE OUTLET, or try FILE --intake NAME --file SAMPLE", a.checkCommand(), a.explainCommand(), a.matrixCommand(), a.compareCommand(), a.previewCommand(), a.tryCommand())
}

// findingJSON is a finding for programs.
type findingJSON struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Kind   string `json:"kind"` // "error" or "warning"
	What   string `json:"what"`
	Mend   string `json:"mend"`
}

func (a *app) checkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Find what is wrong in a plan",
		Long: `Find what is wrong in a plan, all of it at once, in the order of lines:
FILE:LINE:COLUMN: what is wrong; how to mend it. With an error the plan is
refused, and the exit code is 1; a warning is about what is most likely not meant.`,
		Example: `  oakbarrel plan check lantern-bay/tide-gw/plan.yaml
  oakbarrel plan check --output json lantern-bay/reef-02/plan.yaml`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, findings, err := plan.Load(args[0])
			if err != nil {
				return couldNot(err)
			}
			if a.json() {
				err = a.printFindingsJSON(args[0], findings)
			} else {
				a.printFindings(args[0], p, findings)
			}
			if err == nil && findings.Refused() {
				err = no
			}
			return err
		},
	}
}

func (a *app) printFindingsJSON(file string, findings plan.Findings) error {
	list := []findingJSON{}
	for _, f := range findings {
		kind := "error"
		if f.Warning {
			kind = "warning"
		}
		list = append(list, findingJSON{f.File, f.Line, f.Column, kind, f.What, f.Mend})
	}
	return a.printJSON(map[string]any{"file": file, "valid": !findings.Refused(), "findings": list})
}

func (a *app) printFindings(file string, p *plan.Plan, findings plan.Findings) {
	for _, f := range findings {
		fmt.Fprintln(a.stdout, f)
	}
	if len(findings) == 0 && isTerminal(a.stdout) { // a program takes silence for yes
		fmt.Fprintf(a.stdout, "%s: nothing to mend; %d intakes, %d rules, %d outlets\n", file, len(p.Intakes), len(p.Table.Names()), len(p.Outlets))
	}
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	st, err := f.Stat()
	return err == nil && st.Mode()&os.ModeCharDevice != 0 && st.Mode()&os.ModeDevice != 0
}
