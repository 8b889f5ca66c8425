// Package demo is Lantern Bay, a public aquarium that does not exist: hosts
// whose programs talk all day, and agents that take down what they say.
//
// It starts our binary as child processes and speaks to them as any program
// would: over sockets and ports. Its entry is [Run].
package demo

import (
	"bufio"
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
	"syscall"
	"time"
)

//go:embed plans
var plans embed.FS

// Options says how to run the demo.
type Options struct {
	Dir    string    // its folder, made where it is missing
	Rate   float64   // messages a second, of all hosts together
	Binary string    // of oakbarrel
	Out    io.Writer // for what a person is to know
}

// Agent is one agent of the demo, as demo.json has it.
type Agent struct {
	Name   string `json:"name"`
	Plan   string `json:"plan"`
	State  string `json:"state"`
	UDP    string `json:"udp"` // HOST:PORT
	TCP    string `json:"tcp"`
	Socket string `json:"socket"` // path

	process *exec.Cmd
	ended   chan error
}

var hosts = []string{"reef-02", "tide-gw"}

// Run starts the agents, writes demo.json, and lets the programs speak until ctx ends.
func Run(ctx context.Context, o Options) error {
	// The agents end with the thread that started them.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return err
	}
	o.Dir = dir
	var agents []*Agent
	defer func() { stop(agents) }()
	for _, name := range hosts {
		a, err := start(ctx, o, name)
		if a != nil {
			agents = append(agents, a)
		}
		if err != nil {
			return err
		}
	}
	if err := writeJSON(filepath.Join(dir, "demo.json"), agents); err != nil {
		return err
	}
	tell(o, agents)
	speaking, cancel := context.WithCancel(ctx)
	defer cancel()
	spoken := make(chan error, 1)
	go func() { spoken <- speak(speaking, agents, o.Rate) }()
	select {
	case err = <-spoken:
	case e := <-agents[0].ended:
		err = fmt.Errorf("agent %s has ended: %v; see %s", agents[0].Name, e, logOf(agents[0]))
	case e := <-agents[1].ended:
		err = fmt.Errorf("agent %s has ended: %v; see %s", agents[1].Name, e, logOf(agents[1]))
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func logOf(a *Agent) string { return filepath.Join(filepath.Dir(a.Plan), "agent.log") }

// start starts one agent and waits until it is ready.
func start(ctx context.Context, o Options, name string) (*Agent, error) {
	dir := filepath.Join(o.Dir, name)
	if err := os.MkdirAll(filepath.Join(dir, "logs"), 0o755); err != nil {
		return nil, err
	}
	a := &Agent{Name: name, Plan: filepath.Join(dir, "plan.yaml"), State: filepath.Join(dir, "state"), Socket: filepath.Join(dir, "log.sock"), ended: make(chan error, 1)}
	if err := writePlan(a, dir); err != nil {
		return nil, err
	}
	log, err := os.OpenFile(logOf(a), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	a.process = exec.Command(o.Binary, "agent", "--plan", a.Plan, "--state", a.State)
	a.process.Stderr = log
	a.process.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true} // Ctrl-C is for us; we stop it
	stdout, err := a.process.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := a.process.Start(); err != nil {
		return nil, err
	}
	line, _ := bufio.NewReader(stdout).ReadString('\n')
	go func() { a.ended <- a.process.Wait() }()
	if line != "ready\n" {
		said, _ := os.ReadFile(logOf(a))
		return a, fmt.Errorf("agent %s does not start; %s ends with: %s", name, logOf(a), lastLine(said))
	}
	return a, a.learnAddresses(ctx, o.Binary)
}

func lastLine(b []byte) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return lines[len(lines)-1]
}

// writePlan writes the plan of a host. One that is there stays, because
// somebody may have changed it.
func writePlan(a *Agent, dir string) error {
	if _, err := os.Stat(a.Plan); err == nil {
		return nil
	}
	plan, err := plans.ReadFile("plans/" + a.Name + ".yaml")
	if err != nil {
		return err
	}
	return os.WriteFile(a.Plan, bytes.ReplaceAll(plan, []byte("DIR"), []byte(dir)), 0o644)
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

func stop(agents []*Agent) {
	for _, a := range agents {
		a.process.Process.Signal(syscall.SIGTERM)
	}
	for _, a := range agents {
		select {
		case <-a.ended:
		case <-time.After(12 * time.Second):
			a.process.Process.Kill()
		}
	}
}

// writeJSON tells programs where the agents are.
func writeJSON(path string, agents []*Agent) error {
	b, err := json.MarshalIndent(map[string]any{"agents": agents}, "", "  ")
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err // else an old file would keep its mode
	}
	return os.WriteFile(path, append(b, '\n'), 0o600)
}

// tell says what to try next.
func tell(o Options, agents []*Agent) {
	bin, reef, tide := shortest(o.Binary), agents[0], agents[1]
	fmt.Fprintf(o.Out, `Lantern Bay is open. Two hosts speak, about %.0f lines a second together:
  reef-02  pumps and probes        udp %s  tcp %s  unix:%s
  tide-gw  gateway, doors, tickets udp %s  tcp %s  unix:%s

Try, in another terminal:
  %s status --state %s
  %s show everything --state %s --last 10 --follow
  %s send --to udp://%s --priority local3.error --app pumpd 'pump P7 stalled'
  %s show pumps --state %s --where 'severity at least error'
  %s plan explain %s --line '<34>door-badge[7]: badge 7714 refused'

Ctrl-C ends it; the logs stay in %s.
`, o.Rate, reef.UDP, reef.TCP, shortest(reef.Socket), tide.UDP, tide.TCP, shortest(tide.Socket),
		bin, shortest(reef.State), bin, shortest(tide.State), bin, reef.UDP, bin, shortest(reef.State), bin, shortest(tide.Plan), shortest(o.Dir))
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
