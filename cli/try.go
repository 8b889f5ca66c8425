package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

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
		Long: `Show what records an intake of a plan would make of a sample: their time, severity,
program, text and fields. Of files, containers and pipes it counts the records
whose line had not the form that decode sets, or named no time or no severity,
so that the intake's defaults hold; of others each line is a message. Nothing is
sent anywhere.`,
		Example: `  oakbarrel plan try lantern-bay/reef-02/plan.yaml --intake pumps --file lantern-bay/reef-02/pumps/pumpd.log
  oakbarrel plan try plan.yaml --intake pumps --file sample.log --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.loadPlan(args[0])
			if err != nil {
				return err
			}
			in, err := intakeToTry(p, name)
			if err != nil {
				return err
			}
			return a.try(p, in, sample)
		},
	}
	c.Flags().StringVar(&name, "intake", "", "the intake of the plan")
	c.Flags().StringVar(&sample, "file", "", "the sample, plain or compressed")
	c.MarkFlagRequired("file")
	return c
}

// intakeToTry returns the intake with a name, or the only one that follows files.
func intakeToTry(p *plan.Plan, name string) (plan.Intake, error) {
	var names, followed []string
	for _, in := range p.Intakes {
		if in.Name == name {
			return in, nil
		}
		if names = append(names, in.Name); in.Files != nil {
			followed = append(followed, in.Name)
		}
	}
	switch {
	case len(names) == 0:
		return plan.Intake{}, usageError("the plan has no intake")
	case name == "" && len(names) == 1:
		return intakeToTry(p, names[0])
	case name == "" && len(followed) == 1:
		return intakeToTry(p, followed[0])
	}
	return plan.Intake{}, usageError("name an intake with --intake: %s", strings.Join(names, ", "))
}

// records calls each with what an intake makes of a sample, batch by batch, and tells how
// many fell back to a default.
func records(p *plan.Plan, in plan.Intake, sample string, each func(*lines.Out)) (fell lines.Fell, err error) {
	switch {
	case in.Files != nil:
		return tail.Try(in.Files.Follow, sample, each)
	case in.Pipes != nil:
		return tail.Try(tail.Settings{Lines: in.Pipes.Lines}, sample, each)
	}
	f, err := os.Open(sample)
	if err != nil {
		return fell, err
	}
	defer f.Close()
	return fell, eachLine(f, func(line []byte) error {
		r, tried := p.Sample(in.Name, line, record.StampOf(time.Now()))
		if len(tried) > 0 && !tried[len(tried)-1].Fits {
			fell.Form++
		}
		var out lines.Out
		out.Batch.Records = []record.Record{*r}
		each(&out)
		return nil
	})
}

func (a *app) try(p *plan.Plan, in plan.Intake, sample string) error {
	made, rows, total := []json.RawMessage{}, [][]string{{"TIME", "SEVERITY", "APP", "TEXT", "FIELDS"}}, 0
	fell, err := records(p, in, sample, func(out *lines.Out) {
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
				made = append(made, r.AppendJSON(nil))
			} else {
				rows = append(rows, []string{r.Time.String(), r.Facility().String() + "." + r.Severity().String(), string(r.App), record.ClipTo(r.Text, 60), fieldsOf(r)})
			}
		}
	})
	if err != nil {
		return couldNot(err)
	}
	if a.json() {
		return a.printJSON(map[string]any{"records": made, "total": total, "fell": fell})
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
		{fell.Severity, fmt.Sprintf("name no severity: it is %s", in.Default().Severity())},
	} {
		if f.count > 0 {
			fmt.Fprintf(a.stdout, "%d %s\n", f.count, f.what)
		}
	}
	return nil
}

func formsOf(in plan.Intake) string {
	var forms []string
	for _, s := range in.Decode() {
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
