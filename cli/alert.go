package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
)

func (a *app) alertCommand() *cobra.Command {
	return group("alert", "Have the store ask a question again and again, and tell somebody", `  oakbarrel alert try stalls.yaml
  oakbarrel alert set stalls.yaml`,
		"alert list, show NAME, check FILE, try FILE, set FILE, on NAME, off NAME, remove NAME, pull DIR, or push DIR",
		a.alertListCommand(), a.alertShowCommand(), a.alertCheckCommand(), a.alertTryCommand(), a.alertSetCommand(),
		a.alertSwitchCommand("on", false, "Have an alert that is off ask again"),
		a.alertSwitchCommand("off", true, "Have an alert ask nothing for now"),
		a.alertRemoveCommand(), a.alertPullCommand(), a.alertPushCommand())
}

func (a *app) alertListCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "list",
		Short: "List the alerts, and what they have found",
		Example: `  oakbarrel alert list
  oakbarrel alert list --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all := []client.Alert{}
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				all, err = service.Alerts(c.Context())
				return err
			})
			switch {
			case err != nil || a.json():
				return orPrint(a, err, all)
			case len(all) == 0:
				fmt.Fprintln(a.stdout, "there are no alerts yet; write one, and see when it would have told you: oakbarrel alert try FILE")
				return nil
			}
			rows := [][]string{{"ALERT", "STATE", "TOLD", "TELLS", "CASK", "ASKS"}}
			for _, v := range all {
				rows = append(rows, []string{v.Name, alertState(v), agoOrNever(v.Told), orNone(strings.Join(v.Tell, ", ")), orEvery(v.Cask), v.Asks})
			}
			a.table(rows)
			return nil
		},
	}
	who.flags(c)
	return c
}

func orEvery(cask string) string {
	if cask == "" {
		return "every one"
	}
	return cask
}

// alertState tells how an alert is.
func alertState(v client.Alert) string {
	switch {
	case v.Trouble != "":
		return v.Trouble
	case v.Off:
		return "off"
	case v.Holds > 0:
		return fmt.Sprintf("it is so (%d)", v.Holds)
	case v.Notice > 0:
		return fmt.Sprintf("notice %d is open", v.Notice)
	}
	return "quiet"
}

func (a *app) alertShowCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "Tell of an alert, with its text",
		Example: `  oakbarrel alert show stalls
  oakbarrel alert show stalls --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var v client.Alert
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				v, err = alertNamed(c, service, args[0])
				return err
			})
			if err != nil || a.json() {
				return orPrint(a, err, v)
			}
			fmt.Fprintf(a.stdout, "%s: %s\n%s; told %s; changed %s by %s, number %d\n\n%s", v.Name, v.Asks, alertState(v), agoOrNever(v.Told), ago(v.Changed), v.By, v.Number, v.Text)
			return nil
		},
	}
	who.flags(c)
	return c
}

func alertNamed(c *cobra.Command, service *client.Client, name string) (client.Alert, error) {
	all, err := service.Alerts(c.Context())
	if err != nil {
		return client.Alert{}, err
	}
	i := slices.IndexFunc(all, func(v client.Alert) bool { return v.Name == name })
	if i < 0 {
		return client.Alert{}, codedError{exitNo, fmt.Errorf("there is no alert %q; oakbarrel alert list tells those that there are", name)}
	}
	return all[i], nil
}

// readAlert reads an alert's file: it has the name of the alert.
func readAlert(file string) (name string, text []byte, err error) {
	name, isYAML := strings.CutSuffix(filepath.Base(file), ".yaml")
	if !isYAML || !caskName.MatchString(name) {
		return "", nil, usageError("%s cannot be the file of an alert; it is named NAME.yaml, after the alert", file)
	}
	text, err = disk.ReadFile(file)
	return name, text, couldNot(err)
}

func (a *app) alertCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE...",
		Short: "Check alerts, without a service",
		Long:  "Check the files of alerts. The exit code is 1 where one is not in order.",
		Example: `  oakbarrel alert check stalls.yaml
  oakbarrel alert check alerts/*.yaml --output json`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			told, refused := []findingJSON{}, false
			for _, file := range args {
				name, text, err := readAlert(file)
				if err != nil {
					return err
				}
				of, findings := plan.ParseAlert(name, file, text)
				refused = refused || of == nil
				for _, f := range findings {
					told = append(told, findingJSON{f.File, f.Line, f.Column, "error", f.What, f.Mend})
					a.say("%s", f)
				}
				if of != nil {
					a.say("%s is in order: %s", file, of)
				}
			}
			if a.json() {
				if err := a.printJSON(map[string]any{"valid": !refused, "findings": told}); err != nil {
					return err
				}
			}
			if refused {
				return no
			}
			return nil
		},
	}
}

func (a *app) alertTryCommand() *cobra.Command {
	var who admin
	var days int
	c := &cobra.Command{
		Use:   "try FILE",
		Short: "Tell when an alert would have told somebody in the last weeks",
		Long: `Tell when an alert would have told somebody, from what the store holds of the last
days: as far back as it can look within some seconds. Nothing is kept, and nobody told.
The exit code is 1 where the alert is not in order.`,
		Example: `  oakbarrel alert try stalls.yaml
  oakbarrel alert try stalls.yaml --days 30 --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if days < 1 || days > 90 {
				return usageError("--days goes from 1 to 90")
			}
			name, text, err := readAlert(args[0])
			if err != nil {
				return err
			}
			var tried client.TriedAlert
			err = who.asked(c.Context(), func(service *client.Client) (err error) {
				tried, err = service.TryAlert(c.Context(), client.TryAlert{Name: name, Text: string(text), Days: days})
				return err
			})
			if err != nil {
				return err
			}
			return a.printTried(args[0], tried)
		},
	}
	c.Flags().IntVar(&days, "days", 14, "how many days of the past")
	who.flags(c)
	return c
}

func (a *app) printTried(file string, tried client.TriedAlert) error {
	var answer error
	if tried.Asks == "" {
		answer = no
	}
	if a.json() {
		return errors.Join(a.printJSON(tried), answer, whole(tried.Missing))
	}
	for _, f := range tried.Findings {
		fmt.Fprintf(a.stdout, "%s:%d:%d: %s; %s\n", file, f.Line, f.Column, f.What, f.Mend)
	}
	if answer != nil {
		return answer
	}
	fmt.Fprintf(a.stdout, "%s\nsince %s it would have told somebody %s\n", tried.Asks, clock(tried.From), plural(tried.Times, "time"))
	for _, t := range tried.Told {
		fmt.Fprintf(a.stdout, "  %s  %s%s\n", clock(t.At), t.Line, andMore(t.Count-1))
	}
	if more := tried.Times - len(tried.Told); more > 0 {
		fmt.Fprintf(a.stdout, "  and %s before\n", plural(more, "time"))
	}
	return whole(tried.Missing)
}

func andMore(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" (and %d more)", n)
}

func (a *app) alertSetCommand() *cobra.Command {
	var who admin
	var off bool
	c := &cobra.Command{
		Use:   "set FILE",
		Short: "Make an alert, or change it",
		Long: `Make the alert that a file is named after, or put the text in the place of the one
that it has. It asks of what comes from then on.`,
		Example: `  oakbarrel alert set stalls.yaml
  oakbarrel alert set stalls.yaml --off --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			name, text, err := readAlert(args[0])
			if err != nil {
				return err
			}
			return who.asked(c.Context(), func(service *client.Client) error {
				v, err := service.PutAlert(c.Context(), name, client.PutAlert{Text: string(text), Off: off})
				if err != nil || a.json() {
					return orPrint(a, err, v)
				}
				a.tellAlert(v)
				return nil
			})
		},
	}
	c.Flags().BoolVar(&off, "off", false, "it asks nothing for now")
	who.flags(c)
	return c
}

func (a *app) tellAlert(v client.Alert) {
	a.say("alert %s, number %d: %s", v.Name, v.Number, v.Asks)
	switch {
	case v.Trouble != "":
		a.say("%s", v.Trouble)
	case v.Off:
		a.say("it is off")
	case len(v.Tell) == 0:
		a.say("nobody is told; what it finds stands in: oakbarrel notice list")
	}
}

func (a *app) alertSwitchCommand(word string, off bool, short string) *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   word + " NAME",
		Short: short,
		Example: fmt.Sprintf(`  oakbarrel alert %[1]s stalls
  oakbarrel alert %[1]s stalls --account noor --password-file noor.password`, word),
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error {
				v, err := alertNamed(c, service, args[0])
				if err != nil {
					return err
				}
				v, err = service.PutAlert(c.Context(), v.Name, client.PutAlert{Text: v.Text, Base: &v.Number, Off: off})
				if err != nil || a.json() {
					return orPrint(a, err, v)
				}
				a.tellAlert(v)
				return nil
			})
		},
	}
	who.flags(c)
	return c
}

func (a *app) alertRemoveCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove an alert",
		Long:  "Remove an alert. Its notices stay; those that nobody is on are done with it.",
		Example: `  oakbarrel alert remove stalls
  oakbarrel alert remove stalls --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			err := who.asked(c.Context(), func(service *client.Client) error { return service.RemoveAlert(c.Context(), args[0]) })
			if err == nil {
				a.say("alert %s is removed", args[0])
			}
			return err
		},
	}
	who.flags(c)
	return c
}

// A folder has a file NAME.yaml in alerts/ for each alert, beside the plans, and there what the
// service had when they were pulled.
const (
	alertsDir   = "alerts"
	numbersFile = "numbers.json" // alert → pulled
)

func (a *app) alertPullCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "pull DIR",
		Short: "Write the alerts of the store into a folder, to keep them in git too",
		Long: `Write each alert into DIR/alerts/NAME.yaml, and beside them which number each had
(numbers.json). A file that was changed here stays as it is; where the store has another
number by now too, that is a conflict, and the exit code is 1.`,
		Example: `  oakbarrel alert pull fleet/
  oakbarrel alert pull fleet/ --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error { return a.pullAlerts(c, service, filepath.Join(args[0], alertsDir)) })
		},
	}
	who.flags(c)
	return c
}

func (a *app) pullAlerts(c *cobra.Command, service *client.Client, dir string) (answer error) {
	all, err := service.Alerts(c.Context())
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return couldNot(err)
	}
	known := map[string]pulled{}
	if err := readJSONFile(filepath.Join(dir, numbersFile), &known); err != nil {
		return err
	}
	for _, v := range all {
		file := filepath.Join(dir, v.Name+".yaml")
		here, err := disk.ReadFile(file)
		was := known[v.Name]
		changed := err == nil && plan.Hash(here) != was.Hash
		switch {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return couldNot(err)
		case err == nil && string(here) == v.Text:
		case changed && v.Number == was.Revision:
			a.say("%s is changed here, and not pushed yet", file)
			continue
		case changed:
			fmt.Fprintf(a.stderr, "alert %s was changed here and in the store, where %s made number %d; put both together in %s, or remove that file and pull again\n", v.Name, v.By, v.Number, file)
			answer = no
			continue
		default:
			if err := disk.WriteFile(disk.OS, file, []byte(v.Text), 0o644); err != nil {
				return couldNot(err)
			}
			a.say("%s is number %d", file, v.Number)
		}
		known[v.Name] = pulled{v.Number, plan.Hash([]byte(v.Text))}
	}
	if err := writeJSONFile(filepath.Join(dir, numbersFile), known); err != nil {
		return couldNot(err)
	}
	if a.json() {
		return errors.Join(a.printJSON(known), answer)
	}
	return answer
}

func (a *app) alertPushCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "push DIR",
		Short: "Make and change the alerts that were changed in a folder",
		Long: `Make and change the alerts of DIR/alerts whose files were changed since they were
pulled. Where the store has another number of one by now, that one is not pushed, and
the exit code is 1. Alerts without a file stay.`,
		Example: `  oakbarrel alert push fleet/
  oakbarrel alert push . --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error { return a.pushAlerts(c, service, filepath.Join(args[0], alertsDir)) })
		},
	}
	who.flags(c)
	return c
}

func (a *app) pushAlerts(c *cobra.Command, service *client.Client, dir string) error {
	files, err := filepath.Glob(filepath.Join(dir, "*.yaml"))
	if err != nil || len(files) == 0 {
		return errors.Join(err, codedError{exitNo, fmt.Errorf("%s has no alerts; an alert is a file NAME.yaml, and oakbarrel alert pull writes them", dir)})
	}
	known := map[string]pulled{}
	if err := readJSONFile(filepath.Join(dir, numbersFile), &known); err != nil {
		return err
	}
	var answer error
	pushed := []client.Alert{}
	for _, file := range files {
		name, text, err := readAlert(file)
		if err != nil {
			return err
		}
		was := known[name]
		if plan.Hash(text) == was.Hash {
			continue
		}
		v, err := service.PutAlert(c.Context(), name, client.PutAlert{Text: string(text), Base: &was.Revision})
		if err != nil {
			answer = errors.Join(answer, err)
			continue
		}
		known[name] = pulled{v.Number, plan.Hash(text)}
		pushed = append(pushed, v)
		a.tellAlert(v)
	}
	if len(pushed) == 0 && answer == nil {
		a.say("nothing was changed since it was pulled")
	}
	answer = errors.Join(answer, couldNot(writeJSONFile(filepath.Join(dir, numbersFile), known)))
	if a.json() {
		answer = errors.Join(a.printJSON(pushed), answer)
	}
	return answer
}
