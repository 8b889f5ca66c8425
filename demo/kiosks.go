package demo

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

//go:embed fleet
var fleetPlans embed.FS

// Kiosk is a small host whose plan the service serves, as demo.json has it.
type Kiosk struct {
	Name   string `json:"name"`
	Plan   string `json:"plan"` // the host's own file
	State  string `json:"state"`
	Screen string `json:"screen"` // the file that its screen writes

	child *child
}

// kiosksEach is how many kiosks each site has. They are of one image: one invitation a
// site lets them in, and gives them their labels.
const kiosksEach = 5

var sites = []string{"north", "south"}

// startKiosks starts the kiosks, and at the first start of the demo puts their plan into
// the service, and brings it to them. Without a store there are none.
func startKiosks(o Options, s *store) (all []*Kiosk, err error) {
	if s.url == "" {
		return nil, nil
	}
	for i, site := range sites {
		var invitation string
		for k := range kiosksEach {
			name := fmt.Sprintf("kiosk-%02d", i*kiosksEach+k+1)
			dir := filepath.Join(o.Dir, "kiosks", name)
			k := &Kiosk{Name: name, Plan: filepath.Join(dir, "plan.yaml"), State: filepath.Join(dir, "state"), Screen: filepath.Join(dir, "log", "screen.log")}
			if _, err := os.Stat(k.Plan); err != nil {
				if invitation == "" {
					if invitation, err = s.command(o.Binary, "hosts", "invite", "--cask", "kiosks", "--uses", fmt.Sprint(kiosksEach), "--host-label", "role=kiosk,site="+site); err != nil {
						return all, err
					}
				}
				if err := k.settle(o.Binary, s, strings.TrimSpace(invitation)); err != nil {
					return all, err
				}
			}
			k.child, err = startChild("agent "+name, filepath.Join(dir, "agent.log"), o.Binary, "agent", "--plan", k.Plan, "--state", k.State, "--bounds", filepath.Join(dir, "bounds.yaml"))
			if err != nil {
				return all, err
			}
			all = append(all, k)
		}
	}
	return all, s.rollOutFirst(o)
}

// settle makes a kiosk what its image and its invitation make of it.
func (k *Kiosk) settle(binary string, s *store, invitation string) error {
	dir, log := filepath.Dir(k.Plan), filepath.Dir(k.Screen)
	if err := os.MkdirAll(log, 0o755); err != nil {
		return err
	}
	token := filepath.Join(dir, "token")
	if out, err := exec.Command(binary, "accept", invitation, "--state", k.State, "--token-file", token).CombinedOutput(); err != nil {
		return fmt.Errorf("%s accepts its invitation: %w: %s", k.Name, err, out)
	}
	bounds := fmt.Sprintf("# What the service may have this kiosk do; its owner writes it.\nread: [%q]\nwrite: [%q]\n", log, k.State)
	plan := fmt.Sprintf("# The plan comes from the service; here stands what is this kiosk's own.\noakbarrel: 1\nplan: served\nhost: %s\nservice: {url: %s, token_file: %q}\nvalues: {folder: %q}\n", k.Name, s.urls(), token, log)
	return errors.Join(os.WriteFile(filepath.Join(dir, "bounds.yaml"), []byte(bounds), 0o644), os.WriteFile(k.Plan, []byte(plan), 0o644))
}

// rollOutFirst puts the kiosks' plan into the service, and begins to roll it out, where
// there is none yet. The plans lie in a folder, too, to be changed there.
func (s *store) rollOutFirst(o Options) error {
	folder := fleetDir(o.Dir)
	if _, err := os.Stat(folder); err == nil {
		return nil
	}
	if err := s.waitForHosts(o.Binary, len(sites)*kiosksEach); err != nil {
		return err
	}
	for _, name := range []string{"ground", "kiosk"} {
		text, err := fleetPlans.ReadFile("fleet/" + name + ".yaml")
		if err != nil {
			return err
		}
		file := filepath.Join(s.dir, name+".yaml")
		if err := os.WriteFile(file, text, 0o644); err != nil {
			return err
		}
		if _, err := s.command(o.Binary, "plans", "put", name, file, "--why", "the opening of Lantern Bay"); err != nil {
			return err
		}
	}
	for _, words := range [][]string{
		{"assign", "kiosks", "--plan", "kiosk", "--when", "role is kiosk"},
		{"rollout", "start", "kiosk", "--waves", "all", "--wait", "2s", "--why", "the opening of Lantern Bay"},
		{"plans", "pull", folder},
	} {
		if _, err := s.command(o.Binary, words...); err != nil {
			return err
		}
	}
	return nil
}

// fleetDir is where the plans of the service lie, to be changed there.
func fleetDir(dir string) string { return filepath.Join(dir, "fleet") }

// waitForHosts waits until the service has heard so many kiosks.
func (s *store) waitForHosts(binary string, n int) error {
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		out, err := s.command(binary, "hosts")
		if err == nil && strings.Count(out, "kiosk-") >= n {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the service does not hear the kiosks: %w", err)
		}
	}
}

// command runs a command that asks the service, as the demo's account, and returns what it says.
func (s *store) command(binary string, words ...string) (string, error) {
	c := exec.Command(binary, words...)
	c.Env = append(os.Environ(), "OAKBARREL_URL="+s.url, "OAKBARREL_TOKEN="+s.readToken)
	if words[0] != "hosts" || len(words) > 1 {
		c.Args = append(c.Args, "--account", account, "--password-file", s.passwordFile())
	}
	var stderr strings.Builder
	c.Stderr = &stderr
	out, err := c.Output()
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", strings.Join(words, " "), err, stderr.String())
	}
	return string(out), nil
}

// screens has the screens of the kiosks write into their files.
func screens(ctx context.Context, kiosks []*Kiosk) error {
	if len(kiosks) == 0 {
		return nil
	}
	rnd := rand.New(rand.NewPCG(13, 32473))
	return again(ctx, 100*time.Millisecond, func(n int, now time.Time) error {
		k := kiosks[rnd.IntN(len(kiosks))]
		return appendTo(k.Screen, screenLine(rnd, now, n))
	})
}

func screenLine(rnd *rand.Rand, now time.Time, n int) string {
	at := now.Format("2006-01-02 15:04:05.000")
	switch {
	case n%97 == 40:
		return fmt.Sprintf("%s ERROR the printer is out of paper\n", at)
	case n%7 == 3:
		return fmt.Sprintf("%s DEBUG nobody is here, the screen is dimmed\n", at)
	}
	return fmt.Sprintf("%s INFO ticket %d sold, %d visitors, %d.50 euros\n", at, n, 1+rnd.IntN(5), 9+rnd.IntN(40))
}
