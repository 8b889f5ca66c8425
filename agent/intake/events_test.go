package intake

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/state"
	"oakbarrel/core/condition"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// madeOutlet has taken records, and knows how far, as outlets do. One that is lazy makes sure of them later:
// what it has not made sure of goes with a kill.
type madeOutlet struct {
	lazy            bool
	texts, sure     []string
	marks, sureMark map[string]int64
	batches         int
}

func (o *madeOutlet) take(b *record.Batch) {
	for _, r := range b.Records {
		if source := b.Marks[r.Source].Source; r.End > o.marks[source] {
			o.texts = append(o.texts, string(r.Text))
		}
	}
	for _, m := range b.Marks {
		o.marks[m.Source] = max(o.marks[m.Source], m.Offset)
	}
	if o.batches++; !o.lazy || o.batches%3 == 0 {
		o.sure, o.sureMark = slices.Clone(o.texts), maps.Clone(o.marks)
	}
}

func (o *madeOutlet) killed() { o.texts, o.marks = slices.Clone(o.sure), maps.Clone(o.sureMark) }

// eventsBench reads a made log for two outlets.
type eventsBench struct {
	t        *testing.T
	dir      string
	log      *madeLog
	settings plan.Events
	mu       sync.Mutex
	outlets  []*madeOutlet
	state    *state.Folder
	in       *Intake
	endpoint Endpoint
}

func newEventsBench(t *testing.T, names ...string) *eventsBench {
	b := &eventsBench{t: t, dir: t.TempDir(), log: newMadeLog(names...), settings: plan.Events{Channels: []string{"*"}, Begin: plan.Begin{Since: plan.SinceAll}}, in: New(plan.Intake{Name: "windows"})}
	for _, lazy := range []bool{false, true} {
		b.outlets = append(b.outlets, &madeOutlet{lazy: lazy, marks: map[string]int64{}, sureMark: map[string]int64{}})
	}
	return b
}

func (b *eventsBench) start() {
	b.t.Helper()
	var err error
	quiet := slog.New(slog.DiscardHandler)
	if b.state, err = state.Open(b.dir, quiet); err != nil {
		b.t.Fatal(err)
	}
	agent := &Agent{Log: quiet, State: b.state, Guard: guard.New(context.Background(), quiet), Ending: context.Background(), Pass: b.pass, Taken: b.taken}
	if b.endpoint, err = agent.openEvents(&plan.Intake{Name: "windows", Events: &b.settings}, b.log); err != nil {
		b.t.Fatal(err)
	}
	b.endpoint.SetOwner(b.in)
	go b.endpoint.Run()
}

func (b *eventsBench) pass(batch *record.Batch, _ *route.Routing, _ Endpoint, _ bool) bool {
	b.log.call("pass")
	if b.log.call("fault") != nil {
		panic("a fault of ours")
	}
	b.mu.Lock()
	for _, o := range b.outlets {
		o.take(batch)
	}
	b.mu.Unlock()
	b.log.call("passed")
	return true
}

func (b *eventsBench) taken(source string, begin int64) (all []int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, o := range b.outlets {
		if at, known := o.marks[source]; known {
			all = append(all, at)
		} else {
			all = append(all, begin)
		}
	}
	return all
}

func (b *eventsBench) stop() {
	b.endpoint.Drain(time.Time{})
	b.state.Close()
}

// kill ends all at once: nothing is written down any more.
func (b *eventsBench) kill() {
	b.log.mu.Lock()
	b.log.dead = true
	b.log.mu.Unlock()
	synctest.Wait()
	time.Sleep(time.Hour) // all that waits wakes up, and ends
	b.endpoint.Close()
	<-b.endpoint.(*eventsEndpoint).done
	b.state.Close()
	for _, o := range b.outlets {
		o.killed()
	}
	b.log.liveUntil(0)
}

// expect waits, and holds what both outlets have of each channel to what was said there, in its order.
func (b *eventsBench) expect(what string, want ...string) {
	b.t.Helper()
	time.Sleep(2 * channelsAgain)
	synctest.Wait()
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, o := range b.outlets {
		for _, channel := range []string{"A", "B"} {
			of := func(all []string) []string {
				return slices.DeleteFunc(slices.Clone(all), func(s string) bool { return !strings.HasPrefix(s, channel) })
			}
			if got := of(o.texts); !slices.Equal(got, of(want)) {
				b.t.Fatalf("%s: outlet %d has\n%q of %s, not\n%q", what, i, got, channel, of(want))
			}
		}
	}
}

// TestEachEventComesOnceThroughKills kills at every call that is made.
func TestEachEventComesOnceThroughKills(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for at := 1; ; at++ {
			b := newEventsBench(t, "A", "B")
			when, err := condition.ParseOfEvents("level at least warning")
			if err != nil {
				t.Fatal(err)
			}
			b.settings.When = when
			var want []string
			say := func(n int) {
				for range n {
					for _, channel := range []string{"A", "B"} {
						level, text := 2+len(want)%3, fmt.Sprintf("%s%d", channel, len(want))
						b.log.write(channel, level, text)
						time.Sleep(time.Millisecond)
						if level == 4 {
							text = "not wanted"
						}
						want = append(want, text)
					}
				}
			}
			say(11)
			b.log.liveUntil(at)
			b.start()
			time.Sleep(time.Second)
			say(3)
			time.Sleep(time.Minute)
			died := b.log.isDead()
			b.kill()
			say(4)
			b.log.liveUntil(at) // and again
			b.start()
			time.Sleep(time.Minute)
			b.kill()
			b.start()
			say(2)
			b.expect(fmt.Sprintf("killed at call %d", at), slices.DeleteFunc(want, func(s string) bool { return s == "not wanted" })...)
			if missed := b.in.missed.Load(); missed > 0 {
				t.Fatalf("killed at call %d: %d are said to be gone", at, missed)
			}
			b.stop()
			if !died {
				if at < 50 {
					t.Errorf("only %d calls were made", at)
				}
				return
			}
		}
	})
}

// TestEventsAreGone clears logs and turns them over while nobody reads, and while somebody does.
func TestEventsAreGone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var want []string
		b := newEventsBench(t, "A")
		say := func(n int) {
			for range n {
				time.Sleep(time.Second)
				text := fmt.Sprintf("A%d", len(want))
				b.log.write("A", 4, text)
				want = append(want, text)
			}
		}
		lose := func(n int) {
			say(n)
			want = want[:len(want)-n]
			for i := range n {
				want = append(want, fmt.Sprintf("lost %d", i))
			}
		}
		check := func(what string, missed int64) {
			t.Helper()
			b.expect(what, slices.DeleteFunc(slices.Clone(want), func(s string) bool { return strings.HasPrefix(s, "lost") })...)
			if got := b.in.missed.Swap(0); got != missed {
				t.Errorf("%s: %d are said to be gone, not %d", what, got, missed)
			}
		}
		say(20)
		b.start()
		check("all", 0)
		b.log.clear("A", false)
		say(5)
		check("cleared while it is read", 0)
		b.stop()
		lose(30)
		b.log.turnOver("A", 35)
		say(10)
		b.start()
		check("turned over while nobody reads", 30)
		b.log.clear("A", true)
		say(3)
		check("numbers begin anew while it is read", 0)
		b.stop()
		b.log.clear("A", true)
		say(2)
		b.start()
		check("numbers begin anew while nobody reads", 0)
		b.stop()
		b.log.clear("A", true)
		say(40)
		b.start()
		check("numbers begin anew, and are beyond the last", 0)
		b.kill()
		say(2)
		b.start()
		check("after a kill", 0)
		b.stop()
	})
}

func TestEventsThatCannotBeRead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newEventsBench(t, "A")
		b.log.write("A", 4, "A1")
		b.log.write("A", 4, "A2").broken = true
		b.log.write("A", 4, "A3").xml = "<Event>"
		b.log.write("A", 4, "A4").message = "" // its template is missing
		b.start()
		b.expect("what can be read", "A1") // the values of the last begin with another word
		time.Sleep(time.Second)
		synctest.Wait()
		if got, missed := b.outlets[0].texts, b.in.missed.Load(); !slices.Equal(got, []string{"A1", "said=A4"}) || missed != 2 {
			t.Errorf("%q, %d are said to be gone", got, missed)
		}
		b.log.mu.Lock()
		b.log.fail["next"] = errors.New("the log is away")
		b.log.mu.Unlock()
		time.Sleep(time.Second)
		b.log.write("A", 4, "A5")
		time.Sleep(time.Minute)
		files := b.endpoint.Rereads().Files()
		if len(files) != 1 || files[0].Path != "events:A" || !strings.Contains(files[0].Why, "the log is away") || files[0].State != "not read" {
			t.Errorf("%+v", files)
		}
		b.log.mu.Lock()
		b.log.fail["next"] = nil
		b.log.mu.Unlock()
		b.expect("after the log was away", "A1", "A5")
		if files := b.endpoint.Rereads().Files(); files[0].Why != "" || files[0].Read != 5 {
			t.Errorf("%+v", files)
		}
		b.stop()
	})
}

// TestWhereEventsBegin shows what is taken of channels that are new, and of such that come later.
func TestWhereEventsBegin(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newEventsBench(t, "A")
		b.settings.Channels = []string{"a", "B*", "Missing"}
		b.settings.Begin = plan.Begin{Age: time.Hour}
		for i := range 10 {
			b.log.write("A", 4, fmt.Sprintf("A%d", i))
			time.Sleep(10 * time.Minute)
		}
		b.start()
		b.expect("of the last hour", "A4", "A5", "A6", "A7", "A8", "A9")
		b.kill()
		b.log.mu.Lock()
		b.log.channels["Bay"], b.log.channels["Other"] = &madeChannel{next: 1}, &madeChannel{next: 1}
		b.log.mu.Unlock()
		b.log.write("Bay", 4, "B1")
		b.log.write("Other", 4, "B2")
		b.log.write("A", 4, "A10")
		b.start()
		b.expect("of channels that are there later", "A4", "A5", "A6", "A7", "A8", "A9", "A10", "B1")
		b.log.writeAs(b.log.write("A", 4, "A11"), time.Now().Add(-24*time.Hour))
		b.expect("of a clock that was put back", "A4", "A5", "A6", "A7", "A8", "A9", "A10", "B1", "A11")
		var names []string
		for _, f := range b.endpoint.Rereads().Files() {
			names = append(names, f.Path+" "+f.Why)
		}
		if want := []string{"events:A ", "events:Bay ", "events:Missing channel Missing cannot be read: there is no such channel; it is tried again"}; !reflect.DeepEqual(names, want) {
			t.Errorf("%q", names)
		}
		b.stop()
	})
}

// A condition on what events say is asked of the rendered message; others are asked before it is rendered, which takes long.
func TestAConditionOnWhatEventsSay(t *testing.T) {
	for asked, rendered := range map[string]int{`text is "the door is open"`: 6, `field event@32473.message is "the door is open"`: 6, `shape is "the door is open"`: 6, "level at least warning": 2} {
		synctest.Test(t, func(t *testing.T) {
			b := newEventsBench(t, "A")
			when, err := condition.ParseOfEvents(asked)
			if err != nil {
				t.Fatal(err)
			}
			b.settings.When = when
			for range 2 {
				b.log.write("A", 4, "said: nothing")
				b.log.write("A", 3, "the door is open")
				b.log.write("A", 4, "the door was open")
			}
			b.start()
			b.expect(asked, "the door is open", "the door is open")
			b.stop()
			if n := b.log.named["message"]; n != rendered {
				t.Errorf("%s: %d messages rendered, not %d", asked, n, rendered)
			}
		})
	}
}

// A channel that is named in another letter case is one, also where the channels could not be listed at first.
func TestAChannelIsReadOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newEventsBench(t, "A")
		b.settings.Channels = []string{"a", "A*"}
		b.log.fail["channels"] = errors.New("the log begins to run")
		b.log.write("A", 4, "A1")
		b.start()
		b.expect("by its name", "A1")
		b.log.mu.Lock()
		b.log.fail["channels"] = nil
		b.log.mu.Unlock()
		b.log.write("A", 4, "A2")
		b.expect("by what is listed", "A1", "A2")
		if files := b.endpoint.Rereads().Files(); len(files) != 1 {
			t.Errorf("%+v", files)
		}
		b.stop()
	})
}

// A fault of ours costs a channel nothing, and no other channel anything.
func TestAFaultOfOneChannel(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newEventsBench(t, "A")
		b.log.write("A", 4, "A1")
		b.start()
		b.expect("before", "A1")
		b.log.mu.Lock()
		b.log.fail["fault"] = errors.New("yes")
		b.log.mu.Unlock()
		b.log.write("A", 4, "A2")
		time.Sleep(time.Minute)
		synctest.Wait()
		if files := b.endpoint.Rereads().Files(); !strings.Contains(files[0].Why, "a part of the agent has failed") {
			t.Errorf("%+v", files)
		}
		if n := b.endpoint.(*eventsEndpoint).flying.Load(); n != 0 {
			t.Errorf("%d records are said to be on their way", n)
		}
		b.log.mu.Lock()
		b.log.fail["fault"] = nil
		b.log.mu.Unlock()
		b.expect("after the fault", "A1", "A2")
		b.stop()
	})
}
