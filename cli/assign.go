package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) assignCommand() *cobra.Command {
	var who admin
	var n client.PlanAssignment
	var remove bool
	c := &cobra.Command{
		Use:   "assign [NAME]",
		Short: "Say which hosts get which plan, or list what was said",
		Long: `Say which hosts get a plan: those whose labels meet a condition. Of several that are
met the most exact decides: the one with the most tests that hold of the host, and
one on the host's name before all others. Without a name, the assignments are listed.

A condition is made of LABEL is X, LABEL in (X, Y), LABEL starts with X, LABEL exists,
LABEL missing and any, with and, or, not and brackets; host is the host's name, and
own/NAME a label that the host gives itself.`,
		Example: `  oakbarrel assign gates --plan gate --when 'role is gate and site in (north, south)'
  oakbarrel assign`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listAssignments(c, &who)
			}
			n.Name = args[0]
			if !remove && (n.Plan == "" || n.When == "") {
				return usageError("an assignment needs a plan and a condition; write: assign %s --plan NAME --when 'role is gate'", n.Name)
			}
			err := who.asked(c.Context(), func(service *client.Client) error {
				if remove {
					return service.Unassign(c.Context(), n.Name)
				}
				return service.Assign(c.Context(), n)
			})
			if err != nil || a.json() {
				return orPrint(a, err, map[string]any{"name": n.Name, "removed": remove})
			}
			if remove {
				fmt.Fprintf(a.stdout, "%s is taken away; its hosts keep the plan that they have\n", n.Name)
				return nil
			}
			return a.listAssignments(c, &who)
		},
	}
	c.Flags().StringVar(&n.Plan, "plan", "", "the plan that the hosts get")
	c.Flags().StringVar(&n.When, "when", "", "condition on the labels of hosts")
	c.Flags().BoolVar(&n.Approve, "approve", false, "roll-outs of the plan wait for another person to approve them")
	c.Flags().BoolVar(&remove, "remove", false, "take the assignment away")
	who.flags(c)
	return c
}

// orPrint returns an error, or prints a value for programs.
func orPrint(a *app, err error, v any) error {
	if err != nil {
		return err
	}
	return a.printJSON(v)
}

func (a *app) listAssignments(c *cobra.Command, who *admin) error {
	all := []client.PlanAssignment{}
	err := who.asked(c.Context(), func(service *client.Client) (err error) {
		all, err = service.Assignments(c.Context())
		return err
	})
	switch {
	case err != nil || a.json():
		return orPrint(a, err, all)
	case len(all) == 0:
		fmt.Fprintln(a.stdout, "no plan is assigned to a host; write: oakbarrel assign NAME --plan PLAN --when 'role is gate'")
		return nil
	}
	rows := [][]string{{"NAME", "PLAN", "WHEN", "HOSTS", "APPROVED", "BY"}}
	for _, one := range all {
		approved := "-"
		if one.Approve {
			approved = "by another"
		}
		rows = append(rows, []string{one.Name, one.Plan, one.When, fmt.Sprint(one.Hosts), approved, one.By})
	}
	a.table(rows)
	return nil
}

// hostOf finds the host that a name or an agent's id means.
func hostOf(all []client.FleetHost, name string) (client.FleetHost, error) {
	var found []client.FleetHost
	for _, h := range all {
		if h.AgentID == name || strings.EqualFold(h.Host, name) {
			found = append(found, h)
		}
	}
	switch len(found) {
	case 0:
		return client.FleetHost{}, codedError{exitNo, fmt.Errorf("no host %q was heard; oakbarrel hosts lists them", name)}
	case 1:
		return found[0], nil
	}
	return client.FleetHost{}, codedError{exitNo, fmt.Errorf("%d hosts say that they are %q; name the agent by its id, as oakbarrel hosts tells it", len(found), name)}
}

func (a *app) hostsLabelCommand() *cobra.Command {
	var who admin
	var values, remove []string
	var of string
	c := &cobra.Command{
		Use:   "label HOST [NAME=VALUE]",
		Short: "Say what a host is, and what the places of its plan stand for there",
		Long: `Give a host labels, by which plans are assigned, and values, which the places @{NAME}
of its plan stand for. A label gives the value of its name too, where nothing else
does. With --of, the values are those of all hosts with a label; HOST is not named then.`,
		Example: `  oakbarrel hosts label gate-03 role=gate site=north --value port=5140
  oakbarrel hosts label --of site=north --value relay=relay-north.lantern.example:601`,
		Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if (of == "") == (len(args) == 0) {
				return usageError("name one host, or a label with --of; write: %s", c.UseLine())
			}
			changes, err := labelChanges(args, values, remove)
			if err != nil {
				return err
			}
			return who.asked(c.Context(), func(service *client.Client) error {
				if of != "" {
					return a.setValuesOf(c, service, of, changes)
				}
				all, err := service.Fleet(c.Context())
				if err != nil {
					return err
				}
				h, err := hostOf(all, args[0])
				if err == nil {
					err = service.SetLabels(c.Context(), h.AgentID, changes)
				}
				if err == nil {
					all, err = service.Fleet(c.Context())
				}
				if err != nil {
					return err
				}
				h, err = hostOf(all, h.AgentID)
				if err != nil || a.json() {
					return orPrint(a, err, h)
				}
				a.showHost(h)
				return nil
			})
		},
	}
	c.Flags().StringSliceVar(&values, "value", nil, "NAME=TEXT that a place @{NAME} stands for; may be given several times")
	c.Flags().StringSliceVar(&remove, "remove", nil, "name of a label or a value to take away")
	c.Flags().StringVar(&of, "of", "", "LABEL=VALUE: the values are those of all hosts with it")
	who.flags(c)
	return c
}

// labelChanges reads what is to be changed; of a host the first word is its name.
func labelChanges(args, values, remove []string) (s client.SetLabels, err error) {
	s = client.SetLabels{Labels: map[string]string{}, Values: map[string]string{}}
	read := func(words []string, to map[string]string, example string) error {
		for _, word := range words {
			name, value, ok := strings.Cut(word, "=")
			if !ok || name == "" || value == "" {
				return usageError("%q says nothing; write %s", word, example)
			}
			to[name] = value
		}
		return nil
	}
	if err := read(args[min(1, len(args)):], s.Labels, "NAME=VALUE, such as role=gate"); err != nil {
		return s, err
	}
	if err := read(values, s.Values, "--value NAME=TEXT, such as --value port=514"); err != nil {
		return s, err
	}
	for _, name := range remove {
		s.Values[name] = ""
		if len(args) > 0 {
			s.Labels[name] = ""
		}
	}
	if len(s.Labels)+len(s.Values) == 0 {
		return s, usageError("nothing is to be changed; write NAME=VALUE for a label, or --value NAME=TEXT")
	}
	return s, nil
}

func (a *app) setValuesOf(c *cobra.Command, service *client.Client, of string, changes client.SetLabels) error {
	label, value, ok := strings.Cut(of, "=")
	if !ok || label == "" || value == "" {
		return usageError("--of cannot be %q; write LABEL=VALUE, such as site=north", of)
	}
	for name, text := range changes.Values {
		if err := service.SetLabelValue(c.Context(), client.ValueOfLabel{Label: label, Of: value, Name: name, Text: text}); err != nil {
			return err
		}
	}
	all, err := service.LabelValues(c.Context())
	if err != nil || a.json() {
		return orPrint(a, err, all)
	}
	rows := [][]string{{"LABEL", "VALUE", "TEXT"}}
	for _, v := range all {
		rows = append(rows, []string{v.Label + "=" + v.Of, v.Name, v.Text})
	}
	a.table(rows)
	return nil
}

func (a *app) hostsShowCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "show HOST",
		Short: "Show a host's labels and values, which plan it is to have and has, and why",
		Example: `  oakbarrel hosts show gate-03
  oakbarrel hosts show gate-03 --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error {
				all, err := service.Fleet(c.Context())
				if err != nil {
					return err
				}
				h, err := hostOf(all, args[0])
				if err != nil || a.json() {
					return orPrint(a, err, h)
				}
				a.showHost(h)
				return nil
			})
		},
	}
	who.flags(c)
	return c
}

func (a *app) showHost(h client.FleetHost) {
	has := "a plan of its own"
	if h.Served {
		has = planAt(h.Plan, h.Revision) + stateWords[h.State]
	}
	rows := [][]string{
		{"host", h.Host}, {"agent", h.AgentID}, {"last heard", ago(h.LastHeard)}, {"labels", words(h.Labels)}, {"values", words(h.Values)},
		{"is to have", planAt(h.Assigned, h.InForce)}, {"because", h.Why}, {"has", has},
	}
	if h.Drift != "" {
		rows = append(rows, []string{"drift", h.Drift})
	}
	a.table(rows)
}

var stateWords = map[client.ServedState]string{client.Judged: ", which is judged still", client.TakenBack: ", as a later one was taken back"}

func planAt(name string, revision int) string {
	switch {
	case name == "":
		return "none"
	case revision == 0:
		return "plan " + name + ", of which nothing is rolled out yet"
	}
	return fmt.Sprintf("plan %s, revision %d", name, revision)
}

// words tells names and values on one line.
func words(all map[string]string) string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		list = append(list, name+"="+all[name])
	}
	return orNone(strings.Join(list, " "))
}
