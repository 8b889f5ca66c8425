package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// sampleMessage stands in where no message is given.
const sampleMessage = `<28>1 - reef-02 pumpd 4711 FLOW [tank@32473 id="4" ph="8.1"] pump P04 slows down: 1,180 rpm`

func (a *app) previewCommand() *cobra.Command {
	var message string
	c := &cobra.Command{
		Use:   "preview FILE OUTLET",
		Short: "See a line of a file outlet, and the names of its files",
		Long: `See what a file outlet of a plan would write: the line of a message, the path of
the live file, the names that the next rolls give, and the most that the set may
take on disk. Nothing is written.`,
		Example: `  oakbarrel plan preview lantern-bay/reef-02/plan.yaml pumps
  oakbarrel plan preview lantern-bay/tide-gw/plan.yaml everything --line '<34>door-badge[7]: badge 7714 refused'`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.loadPlan(args[0])
			if err != nil {
				return err
			}
			o, ok := p.Outlet(args[1])
			if !ok || o.Kind != plan.FileOutlet {
				return couldNot(fmt.Errorf("%s has no file outlet %s", args[0], args[1]))
			}
			return a.preview(p, o, message, time.Now())
		},
	}
	c.Flags().StringVar(&message, "line", sampleMessage, "a syslog message")
	return c
}

// previewJSON is a preview for programs.
type previewJSON struct {
	Outlet  string       `json:"outlet"`
	Line    string       `json:"line"`
	Live    string       `json:"live"`
	Next    []comingJSON `json:"next"`
	Ceiling *int64       `json:"ceiling"` // bytes, null for no bound
}

type comingJSON struct {
	At   *time.Time `json:"at"` // null where its size decides
	Path string     `json:"path"`
}

func (a *app) preview(p *plan.Plan, o plan.Outlet, message string, now time.Time) error {
	r := record.Record{Received: record.StampOf(now)}
	parser := wire.Parser{Default: record.DefaultPriority}
	parser.Parse(&r, []byte(message))
	r.Intake = "preview"
	line := o.Format.AppendLine(nil, &r)
	set := o.File
	if o.Path != nil {
		zone := time.Local
		if set.Zone != nil {
			zone = set.Zone
		}
		set.Path = string(o.Path.Append(nil, &r, zone))
	}
	v := previewJSON{Outlet: o.Name, Line: string(line[:len(line)-1]), Live: set.Path, Next: []comingJSON{}}
	for _, c := range set.Coming(now, 3) {
		next := comingJSON{Path: c.Path}
		if !c.At.IsZero() {
			next.At = &c.At
		}
		v.Next = append(v.Next, next)
	}
	if most := set.Ceiling(); most > 0 && o.Path == nil {
		v.Ceiling = &most
	}
	if a.json() {
		return a.printJSON(v)
	}
	a.printPreview(v, o)
	return nil
}

func (a *app) printPreview(v previewJSON, o plan.Outlet) {
	fmt.Fprintln(a.stdout, v.Line)
	fmt.Fprintf(a.stdout, "\ninto %s\n", v.Live)
	switch {
	case len(v.Next) == 0:
		fmt.Fprintln(a.stdout, "  it is never rolled by itself; give it roll: {size: 10MiB, every: day}")
	case o.File.Counted:
		fmt.Fprintf(a.stdout, "  the newest piece is always %s, older ones count up\n", v.Next[0].Path)
	}
	for _, n := range v.Next {
		when := "as it reaches " + size(o.File.Size) + ", now, for example"
		if n.At != nil {
			when = "at " + n.At.Format("2006-01-02 15:04:05 -07:00")
		}
		fmt.Fprintf(a.stdout, "  %s: %s\n", when, n.Path)
	}
	switch {
	case v.Ceiling != nil:
		fmt.Fprintf(a.stdout, "it takes at most %s on disk\n", size(*v.Ceiling))
	case o.Path != nil && o.File.Ceiling() > 0:
		fmt.Fprintf(a.stdout, "each of up to %d such files takes at most %s on disk\n", o.Files, size(o.File.Ceiling()))
	default:
		fmt.Fprintln(a.stdout, "nothing bounds what it takes on disk; give keep a total, or pieces beside a roll size")
	}
}
