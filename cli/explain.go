package cli

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

func (a *app) explainCommand() *cobra.Command {
	e := &explainer{app: a}
	var line, file string
	c := &cobra.Command{
		Use:   "explain FILE (--line MESSAGE | --file MESSAGES)",
		Short: "Show where a message goes, and what each rule says of it",
		Long: `Show what each rule of a plan says of a message, and the part of its condition
that decided; then where the message goes. With --file, of many messages, one a
line, followed by counts by rule and outlet. Nothing is written or sent.`,
		Example: `  oakbarrel plan explain lantern-bay/tide-gw/plan.yaml --line '<34>door-badge[7]: badge 7714 refused'
  oakbarrel plan explain lantern-bay/reef-02/plan.yaml --file messages.log --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			byLine, byFile := c.Flags().Changed("line"), c.Flags().Changed("file")
			if byLine == byFile {
				return usageError("explain needs one message or a file of them; write: --line MESSAGE, or --file MESSAGES")
			}
			if err := e.load(args[0]); err != nil {
				return err
			}
			if byLine {
				return e.explain([]byte(line))
			}
			return e.explainFile(file)
		},
	}
	c.Flags().StringVar(&line, "line", "", "a syslog message")
	c.Flags().StringVar(&file, "file", "", "a file of syslog messages, one a line")
	c.Flags().StringVar(&e.intake, "intake", "", "the intake by which the message comes: it is read as that one does")
	return c
}

// explainer explains what one plan does with messages.
type explainer struct {
	*app
	plan   *plan.Plan
	intake string
	counts explainCounts
}

// explainCounts is what became of many messages.
type explainCounts struct {
	messages, otherwise, nowhere int
	byRule, byOutlet             []int
}

func (e *explainer) load(file string) error {
	p, err := e.loadPlan(file)
	if err != nil {
		return err
	}
	e.plan = p
	e.counts = explainCounts{byRule: make([]int, len(p.Table.Names())), byOutlet: make([]int, len(p.Outlets))}
	return nil
}

func (e *explainer) explainFile(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return couldNot(err)
	}
	defer f.Close()
	err = eachLine(f, func(line []byte) error {
		if e.counts.messages > 0 && !e.json() {
			fmt.Fprintln(e.stdout)
		}
		return e.explain(line)
	})
	if err != nil {
		return couldNot(err)
	}
	if !e.json() {
		e.printCounts()
	}
	return nil
}

// eachLine calls each with every line that is not empty, cut to the longest message.
func eachLine(from io.Reader, each func(line []byte) error) error {
	scanner := bufio.NewReaderSize(from, wire.MaxMessage+2)
	for {
		line, err := scanner.ReadSlice('\n')
		for err == bufio.ErrBufferFull { // pass over the rest of a line that is too long
			line = append([]byte(nil), line[:wire.MaxMessage]...)
			_, err = scanner.ReadSlice('\n')
		}
		if line = bytes.TrimRight(line, "\r\n"); len(line) > 0 {
			if e := each(line); e != nil {
				return e
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (e *explainer) explain(message []byte) error {
	r, tried := e.plan.Sample(e.intake, message, record.StampOf(time.Now()))
	if e.json() {
		x, way := e.plan.Explain(r)
		x.Decoded = tried
		e.counts.add(way)
		return e.printJSON(x)
	}
	e.printRecord(r)
	for _, t := range tried {
		fits := "does not fit"
		if t.Fits {
			fits = "fits"
		}
		fmt.Fprintf(e.stdout, "  decode %s: %s\n", t.Form, fits)
	}
	way := e.plan.Table.Explain(r)
	e.counts.add(way)
	e.printWay(way)
	return nil
}

func (c *explainCounts) add(way route.Way) {
	c.messages++
	for i, j := range way.Rules {
		if j.Matched && j.Reached {
			c.byRule[i]++
		}
	}
	if way.Otherwise {
		c.otherwise++
	}
	for _, o := range way.Outlets {
		c.byOutlet[o]++
	}
	if len(way.Outlets) == 0 {
		c.nowhere++
	}
}

func (e *explainer) printRecord(r *record.Record) {
	header := fmt.Sprintf("%s  %s", r.Time, r.Priority)
	for _, p := range []struct {
		name  string
		value []byte
	}{{"host", r.Host}, {"agent", r.Agent}, {"app", r.App}, {"procid", r.ProcID}, {"msgid", r.MsgID}} {
		if p.value != nil {
			header += fmt.Sprintf("  %s %s", p.name, record.Visible(string(p.value)))
		}
	}
	fmt.Fprintln(e.stdout, header)
	fmt.Fprintf(e.stdout, "  %s\n", record.Visible(string(r.Text)))
	if r.HasFields() {
		fmt.Fprintf(e.stdout, "  %s\n", r.Fields().Root().AppendJSON(nil))
	}
	if r.Unparsed {
		fmt.Fprintln(e.stdout, "  (the header could not be read as a whole; what was not understood is text)")
	}
}

func (e *explainer) printWay(way route.Way) {
	rows := [][]string{{"", "RULE", "", "BECAUSE"}}
	for i, j := range way.Rules {
		rows = append(rows, []string{verdict(j), fmt.Sprint(i + 1), j.Name, j.Because})
		for _, change := range j.Changes {
			rows = append(rows, []string{"", "", "", "→ " + change})
		}
	}
	fmt.Fprintln(e.stdout)
	e.table(rows)
	fmt.Fprintln(e.stdout, "\n  goes "+e.destination(way))
}

func verdict(j route.Judgement) string {
	switch {
	case !j.Reached && j.Matched:
		return "(yes)"
	case !j.Reached:
		return "(no)"
	case j.Matched:
		return "yes"
	}
	return "no"
}

func (e *explainer) destination(way route.Way) string {
	names := strings.Join(e.plan.OutletNames(way.Outlets), ", ")
	if names != "" {
		names = "to " + names
	}
	switch {
	case way.DroppedBy >= 0 && names != "":
		return fmt.Sprintf("%s; then rule %q dropped it", names, way.Rules[way.DroppedBy].Name)
	case way.DroppedBy >= 0:
		return fmt.Sprintf("nowhere: rule %q drops it", way.Rules[way.DroppedBy].Name)
	case way.Otherwise && names == "":
		return "nowhere: no rule sends it, and otherwise drops it"
	case way.Otherwise:
		return names + ", by otherwise: no rule sends it"
	}
	return names
}

func (e *explainer) printCounts() {
	c := e.counts
	fmt.Fprintf(e.stdout, "\n%s messages\n", count(int64(c.messages)))
	rows := [][]string{{"RULE", "MATCHED"}}
	for i, name := range e.plan.Table.Names() {
		rows = append(rows, []string{fmt.Sprintf("%d  %s", i+1, name), count(int64(c.byRule[i]))})
	}
	e.table(append(rows, []string{"otherwise", count(int64(c.otherwise))}))
	fmt.Fprintln(e.stdout)
	rows = [][]string{{"OUTLET", "GETS"}}
	for i, o := range e.plan.Outlets {
		rows = append(rows, []string{o.Name, count(int64(c.byOutlet[i]))})
	}
	e.table(append(rows, []string{"nowhere (dropped)", count(int64(c.nowhere))}))
}
