package control

import (
	"context"
	"errors"
	"slices"
	"strings"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/state"
	"oakbarrel/core/plan"
)

// Addresses returns where the agent with a state folder listens for syslog, as
// "send --to" takes it, the best for a program on the same host first. Where no
// agent runs it returns those of the plan that was in force last.
func Addresses(ctx context.Context, stateDir string) (all []string, err error) {
	s, err := AskStatus(ctx, stateDir)
	switch {
	case err == nil:
		for _, in := range s.Intakes {
			if in.Kind == plan.SyslogIntake {
				all = append(all, in.Addresses...)
			}
		}
	case errors.Is(err, ErrNoAgent):
		p, _, readErr := plan.Load(state.PlanCopy(stateDir))
		if p == nil || readErr != nil {
			return nil, err
		}
		for _, in := range p.Intakes {
			for _, key := range intake.KeysOf(in) {
				if in.Kind == plan.SyslogIntake {
					all = append(all, key.String())
				}
			}
		}
	default:
		return nil, err
	}
	all = slices.DeleteFunc(all, func(a string) bool { return strings.HasPrefix(a, "tls:") })
	rank := func(a string) int {
		return slices.IndexFunc([]string{"unix:", "tcp:", "udp:"}, func(p string) bool { return strings.HasPrefix(a, p) })
	}
	slices.SortStableFunc(all, func(a, b string) int { return rank(a) - rank(b) })
	return all, nil
}

// Patterns names the patterns of the files that the agent with a state folder
// follows, or followed last.
func Patterns(stateDir string) string {
	p, _, err := plan.Load(state.PlanCopy(stateDir))
	if err != nil || p == nil {
		return "not known"
	}
	var all []string
	for _, in := range p.Intakes {
		if in.Files != nil {
			all = append(all, in.Files.Follow.Paths...)
		}
	}
	if len(all) == 0 {
		return "none"
	}
	return strings.Join(all, ", ")
}
