package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/core/lines"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/tail"
)

// mostTried is how many records are shown.
const mostTried = 10_000

func (a *app) tryCommand() *cobra.Command {
	var name, sample string
	c := &cobra.Command{
		Use:   "try FILE",
		Short: "Show what records an intake would make of a file",
		Long: `Show what records an intake of a plan, of files or of containers, would make of a
sample: their time, severity, program, text and fields. It counts the records
whose line had not the form that decode sets, or named no time or no severity,
so that the intake's defaults hold. Nothing is sent anywhere.`,
		Example: `  oakbarrel plan try lantern-bay/reef-02/plan.yaml --intake pumps --file lantern-bay/reef-02/pumps/pumpd.log
  oakbarrel plan try plan.yaml --intake pumps --file sample.log --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.loadPlan(args[0])
			if err != nil {
				return err
			}
			in, err := followedIntake(p, name)
			if err != nil {
				return err
			}
			return a.try(in, sample)
		},
	}
	c.Flags().StringVar(&name, "intake", "", "the intake of the plan")
	c.Flags().StringVar(&sample, "file", "", "the sample, plain or compressed")
	c.MarkFlagRequired("file")
	return c
}

// followedIntake returns the intake with a name, or the only one that follows files.
func followedIntake(p *plan.Plan, name string) (plan.Intake, error) {
	var names []string
	for _, in := range p.Intakes {
		if in.Files == nil {
			continue
		}
		if in.Name == name {
			return in, nil
		}
		names = append(names, in.Name)
	}
	switch {
	case len(names) == 0:
		return plan.Intake{}, usageError("the plan has no intake that follows files")
	case name == "" && len(names) == 1:
		return followedIntake(p, names[0])
	}
	return plan.Intake{}, usageError("name an intake that follows files with --intake: %s", strings.Join(names, ", "))
}

func (a *app) try(in plan.Intake, sample string) error {
	records, rows, total := []json.RawMessage{}, [][]string{{"TIME", "SEVERITY", "APP", "TEXT", "FIELDS"}}, 0
	fell, err := tail.Try(in.Files.Follow, sample, func(out *lines.Out) {
		for i := range out.Batch.Records {
			r := &out.Batch.Records[i]
			r.Intake = in.Name
			if !in.KeepRaw {
				r.Raw = nil
			}
			if total++; total > mostTried {
				continue
			}
			if a.json() {
				records = append(records, r.AppendJSON(nil))
			} else {
				rows = append(rows, []string{r.Time.String(), r.Facility().String() + "." + r.Severity().String(), string(r.App), record.ClipTo(r.Text, 60), fieldsOf(r)})
			}
		}
	})
	if err != nil {
		return couldNot(err)
	}
	if a.json() {
		return a.printJSON(map[string]any{"records": records, "total": total, "fell": fell})
	}
	a.table(rows)
	if total > mostTried {
		fmt.Fprintf(a.stdout, "  and %d more\n", total-mostTried)
	}
	fmt.Fprintf(a.stdout, "\n%d records\n", total)
	for _, f := range []struct {
		count int64
		what  string
	}{
		{fell.Form, fmt.Sprintf("have none of the forms of decode (%s): the whole line is text", formsOf(in))},
		{fell.Time, "name no time: it is that of their arrival"},
		{fell.Severity, fmt.Sprintf("name no severity: it is %s", in.Files.Follow.Lines.Default.Severity())},
	} {
		if f.count > 0 {
			fmt.Fprintf(a.stdout, "%d %s\n", f.count, f.what)
		}
	}
	return nil
}

func formsOf(in plan.Intake) string {
	var forms []string
	for _, s := range in.Files.Follow.Lines.Decode {
		forms = append(forms, string(s.Form))
	}
	return strings.Join(forms, ", ")
}

// fieldsOf shows the fields of a record but for those that tell where it is from.
func fieldsOf(r *record.Record) string {
	var all []string
	for v := r.Fields().Root().First(); v.More(); v = v.Next() {
		if name := string(v.Key()); !slices.Contains([]string{"file@32473", "container@32473"}, name) {
			all = append(all, name+"="+string(v.AppendJSON(nil)))
		}
	}
	return record.ClipTo([]byte(strings.Join(all, " ")), 60)
}
