// Package demo is Lantern Bay, a public aquarium that does not exist: hosts
// whose programs talk all day, and agents that take down what they say.
//
// It starts our binary as child processes and speaks to them as any program
// would: over sockets and ports. Its entry is [Run].
package demo

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"text/template"
)

//go:embed plans
var plans embed.FS

// Options says how to run the demo.
type Options struct {
	Dir     string    // its folder, made where it is missing
	Cluster bool      // the store is a cluster, with shelves and two services
	Rate    float64   // messages a second, of all hosts together
	Binary  string    // of oakbarrel
	Out     io.Writer // for what a person is to know
}

// Agent is one agent of the demo, as demo.json has it.
type Agent struct {
	Name   string `json:"name"`
	Plan   string `json:"plan"`
	State  string `json:"state"`
	UDP    string `json:"udp"` // HOST:PORT
	TCP    string `json:"tcp"`
	Socket string `json:"socket"` // path

	child *child
}

// Demo is what demo.json holds. Without a store the rest is left out.
type Demo struct {
	Agents   []*Agent `json:"agents"`
	Kiosks   []*Kiosk `json:"kiosks,omitempty"` // small hosts whose plan the service serves
	URL      string   `json:"url,omitempty"`
	Account  string   `json:"account,omitempty"` // for the console
	Password string   `json:"password,omitempty"`
	Token    string   `json:"token,omitempty"` // reads every cask
	// WriteToken becomes that of the first agent which brings it, as any such token.
	WriteToken  string `json:"write_token,omitempty"`
	ImportToken string `json:"import_token,omitempty"`
}

var hosts = []string{"reef-02", "tide-gw"}

// casks are those that the hosts write into.
var casks = map[string]string{"reef-02": "reef", "tide-gw": "gateway"}

// Run starts the store and the agents, writes demo.json, and lets the programs speak until ctx ends.
func Run(ctx context.Context, o Options) error {
	// The processes end with the thread that started them.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return err
	}
	o.Dir = dir
	if o.Cluster {
		if err := removeOld(dir); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	store := openStore(ctx, o)
	defer store.close()
	ending, end := context.WithCancel(ctx)
	defer end()
	store.bringBack(ending)
	d := Demo{URL: store.url, Password: store.password, Token: store.readToken, WriteToken: store.writeToken, ImportToken: store.importToken}
	if d.URL != "" {
		d.Account = account
	}
	defer func() {
		for _, a := range d.Agents {
			a.child.stop()
		}
		for _, k := range d.Kiosks {
			k.child.stop()
		}
	}()
	duty, err := StartDuty(ctx, filepath.Join(dir, "duty"))
	if err != nil {
		return err
	}
	if err := os.WriteFile(dutyFile(dir), []byte(duty.Webhook+"\n"), 0o600); err != nil {
		return err
	}
	for _, name := range hosts {
		a, err := start(ctx, o, name, store)
		if a != nil {
			d.Agents = append(d.Agents, a)
		}
		if err != nil {
			return err
		}
	}
	if d.Kiosks, err = startKiosks(o, store); err != nil {
		return err
	}
	if store.url != "" {
		if err := store.setAlerts(o); err != nil {
			return err
		}
	}
	if err := writeJSON(filepath.Join(dir, "demo.json"), d); err != nil {
		return err
	}
	speaking, cancel := context.WithCancel(ctx)
	defer cancel()
	spoken := make(chan error, 1)
	ready := make(chan struct{})
	go func() { spoken <- speak(speaking, d.Agents, o.Rate, ready) }()
	go kiosk(speaking, dir)
	go planner(speaking, dir)
	go boxes(speaking, dir)
	go screens(speaking, d.Kiosks)
	<-ready
	tell(o, d, store)
	select {
	case err = <-spoken:
	case e := <-d.Agents[0].child.ended:
		err = d.Agents[0].child.failed(e)
	case e := <-d.Agents[1].child.ended:
		err = d.Agents[1].child.failed(e)
	case <-ctx.Done():
	case e := <-store.ended():
		err = store.service.failed(e)
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// dutyFile holds the address of the stand-in for what tells the person on duty,
// which is another at every start.
func dutyFile(dir string) string { return filepath.Join(dir, "duty", "url") }

// start starts one agent and waits until it is ready.
func start(ctx context.Context, o Options, name string, store *store) (*Agent, error) {
	dir := filepath.Join(o.Dir, name)
	if err := os.MkdirAll(filepath.Join(dir, "logs"), 0o755); err != nil {
		return nil, err
	}
	a := &Agent{Name: name, Plan: filepath.Join(dir, "plan.yaml"), State: filepath.Join(dir, "state"), Socket: filepath.Join(dir, "log.sock")}
	err := writePlan(a, map[string]string{"Dir": dir, "URL": store.urls(), "TokenFile": store.tokenFile(name), "DutyFile": dutyFile(o.Dir)})
	if err != nil {
		return nil, err
	}
	a.child, err = startChild("agent "+name, filepath.Join(dir, "agent.log"), o.Binary, "agent", "--plan", a.Plan, "--state", a.State)
	if err != nil {
		return nil, err
	}
	return a, a.learnAddresses(ctx, o.Binary)
}

// writePlan writes the plan of a host. One that is there stays, because
// somebody may have changed it.
func writePlan(a *Agent, values map[string]string) error {
	if _, err := os.Stat(a.Plan); err == nil {
		return nil
	}
	plan, err := template.ParseFS(plans, "plans/"+a.Name+".yaml")
	if err != nil {
		return err
	}
	var text bytes.Buffer
	if err := plan.Execute(&text, values); err != nil {
		return err
	}
	return os.WriteFile(a.Plan, text.Bytes(), 0o644)
}

// learnAddresses asks the agent which ports it got.
func (a *Agent) learnAddresses(ctx context.Context, binary string) error {
	out, err := exec.CommandContext(ctx, binary, "status", "--state", a.State, "--output", "json").Output()
	if err != nil {
		return fmt.Errorf("agent %s does not tell its status: %w", a.Name, err)
	}
	var status struct {
		Intakes []struct{ Addresses []string }
	}
	if err := json.Unmarshal(out, &status); err != nil {
		return err
	}
	for _, in := range status.Intakes {
		for _, address := range in.Addresses {
			network, rest, _ := strings.Cut(address, "://")
			switch network {
			case "udp":
				a.UDP = rest
			case "tcp":
				a.TCP = rest
			}
		}
	}
	if a.UDP == "" || a.TCP == "" {
		return fmt.Errorf("the plan %s opens no UDP or no TCP port, which the demo needs; remove it to get the demo's own back", a.Plan)
	}
	return nil
}

// writeJSON tells programs where everything is.
func writeJSON(path string, d Demo) error {
	b, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err // else an old file would keep its mode
	}
	return os.WriteFile(path, append(b, '\n'), 0o600)
}

// tell says what to try next.
func tell(o Options, d Demo, store *store) {
	bin, reef, tide := shortest(o.Binary), d.Agents[0], d.Agents[1]
	fmt.Fprintf(o.Out, `Lantern Bay is open. Two hosts speak, about %.0f lines a second together, and have an hour of history:
  reef-02  pumps and probes        udp %s  tcp %s  unix:%s
  tide-gw  gateway, doors, tickets udp %s  tcp %s  unix:%s

Try, in another terminal:
  %s status --state %s
  %s show everything --state %s --last 10 --follow
  %s send --to udp://%s --priority local3.error --app pumpd 'pump P7 stalled'
  %s show pumps --state %s --where 'severity at least error'
  %s plan explain %s --line '<34>door-badge[7]: badge 7714 refused'
`, o.Rate, reef.UDP, reef.TCP, shortest(reef.Socket), tide.UDP, tide.TCP, shortest(tide.Socket),
		bin, shortest(reef.State), bin, shortest(tide.State), bin, reef.UDP, bin, shortest(reef.State), bin, shortest(tide.Plan))
	if d.URL == "" {
		fmt.Fprintf(o.Out, "\nThere is no central store: %s\n", store.missing)
	} else {
		fmt.Fprintf(o.Out, `
The central store, in a browser (sign in as %s with the password %s):
  %s
and on the command line:
  export OAKBARREL_URL=%s OAKBARREL_TOKEN=%s
  %s read --since 1h --where 'severity at least error'
  %s count --since 1h --by severity
`, d.Account, d.Password, d.URL, d.URL, d.Token, bin, bin)
	}
	if len(d.Kiosks) > 0 {
		as := fmt.Sprintf("--account %s --password-file %s", d.Account, shortest(store.passwordFile()))
		fleet := shortest(fleetDir(o.Dir))
		fmt.Fprintf(o.Out, `
Ten kiosks have their plan from the store; it lies in %s, too. Change it there, and bring it to them:
  %s hosts show kiosk-03 %s
  %s plans push %s --why 'quieter screens' %s
  %s rollout start kiosk --wait 30s --why 'quieter screens' --watch %s
`, fleet, bin, as, bin, fleet, as, bin, as)
	}
	store.tellParts(o)
	fmt.Fprintf(o.Out, "\nCtrl-C ends it; the logs stay in %s.\n", shortest(o.Dir))
}

// shortest writes a path as seen from here, where that is shorter.
func shortest(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if relative, err := filepath.Rel(here, path); err == nil && len(relative) < len(path) {
		if !strings.Contains(relative, "/") {
			return "./" + relative
		}
		return relative
	}
	return path
}
