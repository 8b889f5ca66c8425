package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
)

// A folder of plans has a file NAME.yaml for each plan and part, and beside them what
// the service had when they were pulled.
const (
	pulledFile = "revisions.json" // plan → pulled
	hostsFile  = "hosts.json"     // []folderHost
)

// pulled is a plan as it was pulled or pushed last.
type pulled struct {
	Revision int    `json:"revision"`
	Hash     string `json:"hash"` // of the text
}

// folderHost is a host for which plans of a folder are checked.
type folderHost struct {
	Host   string            `json:"host"`
	Plan   string            `json:"plan"`
	Values map[string]string `json:"values"`
}

func (a *app) plansPullCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "pull DIR",
		Short: "Write the plans of the service into a folder, to keep them in git too",
		Long: `Write the last revision of each plan and part into a folder, as NAME.yaml, and
beside them the revisions (revisions.json) and the hosts with their values
(hosts.json). A file that was changed here stays as it is; where the service has
another revision by now too, that is a conflict, which is told with the difference,
and the exit code is 1.`,
		Example: `  oakbarrel plans pull fleet/
  oakbarrel plans pull fleet/ --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error { return a.pull(c, service, args[0]) })
		},
	}
	who.flags(c)
	return c
}

func (a *app) pull(c *cobra.Command, service *client.Client, dir string) error {
	lines, err := service.Plans(c.Context())
	if err != nil {
		return err
	}
	hosts, err := service.Fleet(c.Context())
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return couldNot(err)
	}
	known, err := readPulled(dir)
	if err != nil {
		return err
	}
	answer := error(nil)
	for _, l := range lines {
		r, err := service.Revision(c.Context(), l.Plan, 0)
		if err != nil {
			return err
		}
		file := filepath.Join(dir, l.Plan+".yaml")
		here, err := disk.ReadFile(file)
		was := known[l.Plan]
		switch {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return couldNot(err)
		case err == nil && string(here) == r.Text:
		case err == nil && plan.Hash(here) != was.Hash && r.Number == was.Revision:
			a.say("%s is changed here, and not pushed yet", file)
			continue
		case err == nil && plan.Hash(here) != was.Hash:
			a.tellConflict(l.Plan, r, here)
			answer = no
			continue
		default:
			if err := disk.WriteFile(disk.OS, file, []byte(r.Text), 0o644); err != nil {
				return couldNot(err)
			}
			a.say("%s is revision %d", file, r.Number)
		}
		known[l.Plan] = pulled{r.Number, plan.Hash([]byte(r.Text))}
	}
	for _, file := range []struct {
		name string
		v    any
	}{{pulledFile, known}, {hostsFile, folderHosts(hosts)}} {
		if err := writeJSONFile(filepath.Join(dir, file.name), file.v); err != nil {
			return couldNot(err)
		}
	}
	if a.json() {
		return errors.Join(a.printJSON(known), answer)
	}
	return answer
}

// say tells a person something.
func (a *app) say(format string, args ...any) {
	if !a.json() {
		fmt.Fprintf(a.stdout, format+"\n", args...)
	}
}

func folderHosts(all []client.FleetHost) []folderHost {
	hosts := []folderHost{}
	for _, h := range all {
		if h.Assigned != "" {
			hosts = append(hosts, folderHost{h.Host, h.Assigned, h.Places})
		}
	}
	return hosts
}

func (a *app) tellConflict(name string, r client.PlanRevision, here []byte) {
	fmt.Fprintf(a.stderr, "plan %s was changed here and in the service, where %s made revision %d: %s\n%s", name, r.By, r.Number, r.Why,
		udiff.Unified(fmt.Sprintf("revision %d", r.Number), name+".yaml", r.Text, string(here)))
}

func readPulled(dir string) (map[string]pulled, error) {
	known := map[string]pulled{}
	return known, readJSONFile(filepath.Join(dir, pulledFile), &known)
}

// readJSONFile reads what writeJSONFile wrote; nothing where there is no file.
func readJSONFile(file string, v any) error {
	b, err := disk.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return couldNot(err)
	}
	if err := json.Unmarshal(b, v); err != nil {
		return codedError{exitNo, fmt.Errorf("%s cannot be read: %w; take it from git, or pull into a new folder", file, err)}
	}
	return nil
}

func writeJSONFile(file string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteFile(disk.OS, file, append(b, '\n'), 0o644)
}

// plansIn returns the plans and parts of a folder by their names.
func plansIn(dir string) (map[string]string, error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.yaml"))
	if err != nil {
		return nil, err
	}
	texts := map[string]string{}
	for _, file := range files {
		text, err := disk.ReadFile(file)
		if err != nil {
			return nil, couldNot(err)
		}
		texts[strings.TrimSuffix(filepath.Base(file), ".yaml")] = string(text)
	}
	if len(texts) == 0 {
		return nil, codedError{exitNo, fmt.Errorf("%s has no plans; a plan is a file NAME.yaml, and oakbarrel plans pull writes them", dir)}
	}
	return texts, nil
}

// partsFirst returns the names of plans, those before others that are made of them.
func partsFirst(texts map[string]string) []string {
	users := map[string]bool{}
	for name, text := range texts {
		parts, _ := plan.PartsOf(name+".yaml", []byte(text))
		users[name] = len(parts) > 0
	}
	return slices.SortedFunc(maps.Keys(texts), func(a, b string) int {
		if users[a] != users[b] {
			if users[b] {
				return -1
			}
			return 1
		}
		return strings.Compare(a, b)
	})
}

func (a *app) plansPushCommand() *cobra.Command {
	var who admin
	var why string
	c := &cobra.Command{
		Use:   "push DIR",
		Short: "Make new revisions of the plans that were changed in a folder",
		Long: `Make a new revision of each plan and part of a folder that was changed since it was
pulled. If the service has another revision of one by now, nothing is pushed: the
difference is told, and the exit code is 1. Nothing comes to a host before it is
rolled out.`,
		Example: `  oakbarrel plans push fleet/ --why 'badges to their own file'
  oakbarrel plans push . --why 'retention of 30 days' --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error { return a.push(c, service, args[0], why) })
		},
	}
	c.Flags().StringVar(&why, "why", "", "why they are changed")
	c.MarkFlagRequired("why")
	who.flags(c)
	return c
}

func (a *app) push(c *cobra.Command, service *client.Client, dir, why string) error {
	texts, err := plansIn(dir)
	if err != nil {
		return err
	}
	known, err := readPulled(dir)
	if err != nil {
		return err
	}
	lines, err := service.Plans(c.Context())
	if err != nil {
		return err
	}
	conflict := false
	maps.DeleteFunc(texts, func(name, text string) bool { return known[name].Hash == plan.Hash([]byte(text)) })
	for _, l := range lines {
		text, changed := texts[l.Plan]
		if !changed || l.Revision == known[l.Plan].Revision {
			continue
		}
		r, err := service.Revision(c.Context(), l.Plan, 0)
		if err != nil {
			return err
		}
		if ownText := r.Text; ownText == text || plan.Hash([]byte(ownText)) == known[l.Plan].Hash { // a part of it has changed, and nothing else
			known[l.Plan] = pulled{r.Number, plan.Hash([]byte(ownText))}
			continue
		}
		a.tellConflict(l.Plan, r, []byte(text))
		conflict = true
	}
	if conflict {
		return codedError{exitNo, errors.New("nothing was pushed; pull, put the changes together, and push again")}
	}
	if len(texts) == 0 {
		a.say("nothing was changed since it was pulled")
	}
	answer := a.pushAll(c, service, texts, known, why)
	return errors.Join(couldNot(writeJSONFile(filepath.Join(dir, pulledFile), known)), answer)
}

// pushAll pushes what was changed, parts before the plans that they are of.
func (a *app) pushAll(c *cobra.Command, service *client.Client, texts map[string]string, known map[string]pulled, why string) (answer error) {
	also := map[string]int{} // revisions that plans got with a part
	for _, name := range partsFirst(texts) {
		base := max(known[name].Revision, also[name])
		put, err := service.PutPlan(c.Context(), name, client.NewRevision{Text: texts[name], Why: why, Base: &base})
		if err != nil {
			return err
		}
		known[name] = pulled{put.Revision, plan.Hash([]byte(texts[name]))}
		for _, of := range put.Also {
			also[of.Part] = of.Revision
			if was, isKnown := known[of.Part]; isKnown {
				known[of.Part] = pulled{of.Revision, was.Hash}
			}
		}
		if err := a.tellPut(put); err != nil {
			answer = err
		}
	}
	return answer
}

// checkFolder checks the plans of a folder without a service.
func (a *app) checkFolder(dir string) error {
	texts, err := plansIn(dir)
	if err != nil {
		return err
	}
	var hosts []folderHost
	if err := readJSONFile(filepath.Join(dir, hostsFile), &hosts); err != nil {
		return err
	}
	isPart := map[string]bool{}
	for name, text := range texts {
		parts, _ := plan.PartsOf(name+".yaml", []byte(text))
		for _, part := range parts {
			isPart[part] = true
		}
	}
	told := []findingJSON{}
	refused := false
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if isPart[name] {
			continue
		}
		for _, f := range checkOne(dir, name, texts, hosts) {
			kind := "error"
			if f.Warning {
				kind = "warning"
			} else {
				refused = true
			}
			told = append(told, findingJSON{f.File, f.Line, f.Column, kind, f.What, f.Mend})
			a.say("%s", f)
		}
	}
	if a.json() {
		if err := a.printJSON(map[string]any{"folder": dir, "valid": !refused, "findings": told}); err != nil {
			return err
		}
	}
	if refused {
		return no
	}
	return nil
}

// checkOne checks one plan of a folder, for each host that it is for. Each finding is
// told once, with the first of the hosts.
func checkOne(dir, name string, texts map[string]string, hosts []folderHost) (all plan.Findings) {
	file := filepath.Join(dir, name+".yaml")
	whole, findings := plan.Assemble(name, file, []byte(texts[name]), func(part string) ([]byte, error) {
		text, ok := texts[part]
		if !ok {
			return nil, fmt.Errorf("there is no file %s.yaml beside the plan", part)
		}
		return []byte(text), nil
	})
	if findings.Refused() {
		return findings
	}
	if !plan.IsJoined(whole) {
		whole = plan.Join([]plan.Part{{Name: name, Text: []byte(texts[name])}})
	}
	some := false
	for _, h := range hosts {
		if h.Plan != name {
			continue
		}
		some = true
		served := append(slices.Clone(whole), plan.Join([]plan.Part{plan.PartOfValues(h.Values)})...)
		_, findings := plan.ParseServed(file, served, plan.StandIn(nil), nil)
		for _, f := range findings {
			if !slices.ContainsFunc(all, func(o plan.Finding) bool { return o.File == f.File && o.Position == f.Position }) {
				f.What = "on " + h.Host + ": " + f.What
				all = append(all, f)
			}
		}
	}
	if some {
		return all
	}
	_, findings = plan.ParseServed(file, whole, plan.StandIn(nil), nil)
	for _, f := range findings {
		if strings.HasPrefix(f.What, "there is no value for") { // no host is known, so none can be asked for it
			f.Warning = true
		}
		all = append(all, f)
	}
	return all
}
