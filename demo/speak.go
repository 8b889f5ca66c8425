package demo

import (
	"context"
	"math/rand/v2"
	"net"
	"strconv"
	"time"
)

// speaker lets the programs speak to the agents.
type speaker struct {
	agents map[string]*Agent
	conns  map[string]net.Conn // by agent and way
	rnd    *rand.Rand
	past   bool // what is said now was said before
}

// history is how far back the programs have spoken when the demo opens: at the
// rate of the demo, but no more than mostHistory lines.
const (
	history     = time.Hour
	mostHistory = 100_000
)

// speak lets the programs tell what they said in the past hour, closes ready,
// and lets them speak at a rate, and the faults happen, until ctx ends.
func speak(ctx context.Context, agents []*Agent, rate float64, ready chan<- struct{}) error {
	s := &speaker{agents: map[string]*Agent{}, conns: map[string]net.Conn{}, rnd: rand.New(rand.NewPCG(7, 32473))}
	for _, a := range agents {
		s.agents[a.Name] = a
	}
	defer s.hangUp()
	start := time.Now()
	happening := newHappening(start.Add(-history))
	step := max(time.Duration(float64(time.Second)/rate), history/mostHistory)
	s.past = true // all of it over TCP, which loses nothing when it comes at once
	for at := start.Add(-history); at.Before(start) && ctx.Err() == nil; at = at.Add(step) {
		s.routine(at)
		for _, h := range happening {
			h.goOn(s, at)
		}
	}
	s.past = false
	close(ready)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for said := 0; ; {
		select {
		case <-ctx.Done():
			return nil
		case now := <-tick.C:
			due := int(now.Sub(start).Seconds() * rate)
			for ; said < due; said++ {
				s.routine(now)
			}
			for _, h := range happening {
				h.goOn(s, now)
			}
		}
	}
}

// routine lets one program say something ordinary.
func (s *speaker) routine(now time.Time) {
	total := 0
	for _, p := range programs {
		total += p.weight
	}
	n := s.rnd.IntN(total)
	for _, p := range programs {
		if n -= p.weight; n < 0 {
			says := p.routine
			if s.rnd.IntN(30) == 0 {
				says = p.warnings
			}
			s.say(p, fill(says[s.rnd.IntN(len(says))], s.rnd), now)
			return
		}
	}
}

// say sends a message. One that cannot be sent is lost, as it would be for a
// program that does not look; the connection is made anew for the next.
func (s *speaker) say(p *program, says string, now time.Time) {
	way := p.way
	if s.past {
		way = "tcp"
	}
	key := p.via + " " + way
	conn := s.conns[key]
	if conn == nil {
		var err error
		if conn, err = s.call(s.agents[p.via], way); err != nil {
			return
		}
		s.conns[key] = conn
	}
	message := p.message(says, now)
	if way == "tcp" {
		message = append(append(strconv.AppendInt(nil, int64(len(message)), 10), ' '), message...)
	}
	conn.SetWriteDeadline(time.Now().Add(time.Second))
	if _, err := conn.Write(message); err != nil {
		conn.Close()
		delete(s.conns, key)
	}
}

func (s *speaker) call(a *Agent, way string) (net.Conn, error) {
	switch way {
	case "udp":
		return net.Dial("udp", a.UDP)
	case "tcp":
		return net.Dial("tcp", a.TCP)
	}
	return net.Dial("unixgram", a.Socket)
}

func (s *speaker) hangUp() {
	for _, c := range s.conns {
		c.Close()
	}
}

// happening is a fault that goes on.
type happening struct {
	fault
	program *program
	step    int
	due     time.Time
}

func newHappening(start time.Time) (all []*happening) {
	for _, f := range faults {
		for _, p := range programs {
			if p.app == f.program {
				all = append(all, &happening{fault: f, program: p, due: start.Add(f.first)})
			}
		}
	}
	return all
}

// goOn says what is due by now.
func (h *happening) goOn(s *speaker, now time.Time) {
	for !now.Before(h.due) {
		s.say(h.program, h.steps[h.step].says, now)
		if h.step++; h.step == len(h.steps) {
			h.step = 0
			h.due = h.due.Add(h.every)
			return
		}
		h.due = h.due.Add(h.steps[h.step].after)
	}
}
