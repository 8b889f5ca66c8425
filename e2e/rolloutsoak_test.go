package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/client"
)

// rollouts is a fleet whose plans change on and on, while its hosts write, and things
// go wrong.
type rollouts struct {
	*fleet
	rnd   *rand.Rand
	did   map[string]int
	lines atomic.Int64
	n     int // of the plan that was written last
}

// Roll-outs one after the other, of plans that do no harm, and of some that do, under
// kills of the service and of agents, pauses and people who take them back: after each
// one, every host has the plan that the page says, and in the end each line that was
// written is in the store once. OAKBARREL_SOAK sets for how long.
func TestSoakRollouts(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("it takes its time: OAKBARREL_SOAK=60s make soak SOAK=TestSoakRollouts")
	}
	many, err := strconv.Atoi(os.Getenv("OAKBARREL_HOSTS"))
	if err != nil {
		many = 12
	}
	r := &rollouts{fleet: newFleet(t, many), rnd: rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3)), did: map[string]int{}}
	r.followFiles()
	r.write(false)
	r.rollOut(0, "done")
	stop := r.talk()
	for deadline := time.Now().Add(span); time.Now().Before(deadline); {
		r.once()
	}
	stop()
	r.eachOnce()
	t.Logf("%d lines of %d hosts, %d plans, %v", r.lines.Load(), len(r.hosts), r.n, r.did)
}

// Each host has a plan of its own, and gets another one as fast as they can be rolled out,
// which changes its intakes, outlets and rules, while lines come: each is in the store once.
// OAKBARREL_SOAK sets for how long; in six minutes a thousand plans are taken.
func TestSoakManyRollouts(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("it takes its time: OAKBARREL_SOAK=60s make soak SOAK=TestSoakManyRollouts")
	}
	r := &rollouts{fleet: newFleet(t, 12), did: map[string]int{}}
	r.followFiles()
	stop := r.talk()
	var group sync.WaitGroup
	var taken atomic.Int64
	for i := range r.hosts {
		group.Go(func() {
			name := fmt.Sprintf("gate-%02d", i+1)
			if err := r.change(name, 0); err != nil {
				t.Error(err)
				return
			}
			for n, deadline := 1, time.Now().Add(span); time.Now().Before(deadline); n++ {
				if err := r.change(name, n); err != nil {
					t.Errorf("%s, plan %d: %v", name, n, err)
					return
				}
				taken.Add(1)
			}
		})
	}
	group.Wait()
	stop()
	r.eachOnce()
	t.Logf("%d plans were taken, %d lines", taken.Load(), r.lines.Load())
}

// change rolls the n-th plan of a host out.
func (r *rollouts) change(name string, n int) error {
	ctx, admin := context.Background(), r.client(r.admin)
	text := fmt.Sprintf("oakbarrel: 1\nparts: [ground]\nvalues: {note: 'n%d'}\nintakes:\n  screen: {files: {paths: ['@{folder}/screen.log']}, label: {app: screen, note: '@{note}'}}\n", n)
	switch n % 3 {
	case 1:
		text += "  wire: {syslog: {tcp: '127.0.0.1:@{port}'}}\nrules: [{when: severity at least error, send: [centre]}]\n"
	case 2:
		text += "  own: {own: {}}\noutlets: {beside: {file: {path: '@{folder}/state/logs/{app}.log', roll: {size: 1MiB}, keep: {pieces: 2}}}}\nrules: [{when: any, send: [beside, centre]}]\n"
	}
	if _, err := admin.PutPlan(ctx, name, client.NewRevision{Text: text, Why: "the soak"}); err != nil {
		return err
	}
	if err := admin.Assign(ctx, client.PlanAssignment{Name: name, Plan: name, When: "host is " + name}); err != nil {
		return err
	}
	started, err := admin.StartRollout(ctx, client.NewRollout{Plan: name, Waves: "all", Seconds: 1, Why: "the soak"})
	for err == nil && !started.State.Ended() {
		time.Sleep(200 * time.Millisecond)
		started, err = admin.Rollout(ctx, started.ID)
	}
	if err == nil && started.State != client.RolloutDone {
		err = fmt.Errorf("it is %s: %s, %+v", started.State, started.Note, started.Hosts)
	}
	return err
}

func (r *rollouts) client(token string) *client.Client {
	c, _ := client.New(client.Options{URLs: []string{r.url()}, Token: func() (string, error) { return token, nil }})
	return c
}

// followFiles lets each host follow a file in its folder.
func (r *rollouts) followFiles() {
	for i, h := range r.hosts {
		h.bounds(strings.Replace(fleetBounds, "/var/log", h.dir, 1))
		h.stop()
		h.start()
		r.do(0, "", "hosts", "label", fmt.Sprintf("gate-%02d", i+1), "--value", "folder="+h.dir)
	}
}

// eachOnce waits until each line is in the store once, and the balances close.
func (r *rollouts) eachOnce() {
	r.hosts[0].within(time.Minute, "each line is in the store once", func() bool {
		out, _, _ := r.ask(r.token("gateway", "read"), "count", "--where", "app is screen", "--since", "24h", "--output", "json")
		return strings.Contains(out, fmt.Sprintf(`"total":%d,`, r.lines.Load()))
	})
	for _, h := range r.hosts {
		h.status() // which looks whether the balance closes
	}
}

// talk has each host write a line each 50 ms into a file, until it is told to stop.
func (r *rollouts) talk() (stop func()) {
	end, ended := make(chan struct{}), make(chan struct{})
	go r.writeLines(end, ended)
	return func() { close(end); <-ended }
}

func (r *rollouts) writeLines(end, ended chan struct{}) {
	defer close(ended)
	for tick := time.NewTicker(50 * time.Millisecond); ; {
		select {
		case <-end:
			return
		case <-tick.C:
			for _, h := range r.hosts {
				file, err := os.OpenFile(filepath.Join(h.dir, "screen.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
				if err == nil {
					fmt.Fprintln(file, "line", r.lines.Add(1))
					file.Close()
				}
			}
		}
	}
}

// write makes another revision, which follows the file, or harms by following none.
func (r *rollouts) write(harm bool) {
	r.n++
	name := "screen.log"
	if harm {
		name = "nothing.log"
	}
	r.put("gate", fmt.Sprintf("oakbarrel: 1\nparts: [ground]\nvalues: {note: 'n%d'}\nintakes:\n  screen: {files: {paths: ['@{folder}/%s']}, label: {app: screen, note: '@{note}'}}\n", r.n, name))
}

// once rolls a revision out, has things go wrong meanwhile, and looks at what came of it.
func (r *rollouts) once() {
	harm := r.rnd.IntN(4) == 0
	r.write(harm)
	wait := "2s"
	if harm {
		wait = "6s"
	}
	r.do(0, "running", "rollout", "start", "gate", "--wait", wait, "--waves", "1, 30%, all", "--failures", "3", "--why", "the soak")
	id := r.lastRollout().ID
	for !r.lastRollout().State.Ended() {
		switch what := r.rnd.IntN(100); {
		case what < 8:
			r.did["service killed"]++
			r.kill()
			time.Sleep(time.Duration(r.rnd.IntN(2000)) * time.Millisecond)
			r.store.start()
		case what < 16:
			r.did["agent killed"]++
			h := r.hosts[r.rnd.IntN(len(r.hosts))]
			h.kill()
			h.start()
		case what < 19:
			r.did["agent stopped"]++
			h := r.hosts[r.rnd.IntN(len(r.hosts))]
			h.stop()
			h.start()
		case what < 22:
			r.steer(id, "pause")
		case what < 24:
			r.steer(id, "take-back")
		default:
			time.Sleep(300 * time.Millisecond)
		}
		if r.lastRollout().State == client.RolloutPaused {
			r.steer(id, "go-on")
		}
	}
	last := r.lastRollout()
	r.did[string(last.State)]++
	if harm && last.State == client.RolloutDone {
		r.t.Errorf("a plan that starves its hosts was kept: %+v", last.Counts)
	}
	r.agree(last)
}

func (r *rollouts) steer(id uint64, where string) {
	if _, _, code := r.ask(r.admin, "rollout", where, fmt.Sprint(id)); code == 0 {
		r.did[where]++
	}
}

// agree has every host and the page say the same: one of the two plans.
func (r *rollouts) agree(last client.Rollout) {
	for i, h := range r.hosts {
		var page client.FleetHost
		var has *client.ServedPlan
		h.within(40*time.Second, "host and page agree", func() bool {
			out, _, _ := r.ask(r.admin, "hosts", "show", fmt.Sprintf("gate-%02d", i+1), "--output", "json")
			has = h.status().Plan.Served
			return json.Unmarshal([]byte(out), &page) == nil && page.Plan == has.Plan && page.Revision == has.Revision && has.State != client.Judged
		})
		if last.State == client.RolloutTakenBack && has.Revision == last.Revision {
			r.t.Errorf("gate-%02d has revision %d, which was taken back: %+v", i+1, has.Revision, has)
		}
	}
}
