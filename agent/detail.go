package agent

import (
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// detailsFile is the name of the open windows, in a state folder.
const detailsFile = "details.json"

// longestDetail bounds a window, so that none is forgotten.
const longestDetail = 24 * time.Hour

// OpenDetail opens a window, or changes the one that the rule has; without a rule that of
// the agent's own log.
func (a *Agent) OpenDetail(rule, to string, span time.Duration) (d client.Detail, err error) {
	severity, ok := record.ParseSeverity(to)
	if !ok {
		return d, fmt.Errorf("%q is not a severity", to)
	}
	if span < time.Second || span > longestDetail {
		return d, errors.New("a window is open from 1s to 24h")
	}
	now := time.Now().Truncate(time.Millisecond)
	d = client.Detail{Rule: rule, To: severity.String(), Opened: now, Until: now.Add(span)}
	a.mu.Lock()
	defer a.mu.Unlock()
	others := slices.DeleteFunc(slices.Clone(a.details), func(o client.Detail) bool { return o.Rule == rule })
	if rule == "" && !slices.Contains(ownLevels, severity) {
		return d, fmt.Errorf("the agent's own log has debug, info, warning and error, and not %s", severity)
	}
	details := append(others, d)
	table, err := a.withDetails(a.plan, details)
	if err != nil {
		return d, err
	}
	if err := a.state.Save(detailsFile, details); err != nil {
		return d, fmt.Errorf("the window cannot be written down, and so would not close after a restart: %w", err)
	}
	a.setTable(table)
	a.details = details
	a.setLevel()
	a.log.Info("a detail window is open", "rule", rule, "from", details[len(details)-1].From, "to", d.To, "until", d.Until)
	time.AfterFunc(time.Until(d.Until), a.closeExpired)
	return details[len(details)-1], nil
}

// withDetails returns the table of a plan with windows open, and fills in the
// thresholds that the rules have.
func (a *Agent) withDetails(p *plan.Plan, details []client.Detail) (t *route.Table, err error) {
	t = a.tableOf(p)
	for i := range details {
		d := &details[i]
		if d.Rule == "" {
			d.From = intake.SeverityOf(a.level).String()
			continue
		}
		rule := slices.Index(t.Names(), d.Rule)
		if rule < 0 {
			return nil, fmt.Errorf("the plan has no rule %q", d.Rule)
		}
		to, _ := record.ParseSeverity(d.To)
		lowered, from, err := t.WithThreshold(rule, to)
		if err != nil {
			return nil, fmt.Errorf("rule %q has no detail window: %w", d.Rule, err)
		}
		t, d.From = lowered, from.String()
	}
	return t, nil
}

// CloseDetail closes the window of a rule, and tells whether there was one.
func (a *Agent) CloseDetail(rule string) (closed bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.closeDetails(func(d client.Detail) bool { return d.Rule == rule })
}

// closeExpired closes the windows whose time is over.
func (a *Agent) closeExpired() {
	a.atItsTime(func(now time.Time) {
		if _, err := a.closeDetails(func(d client.Detail) bool { return !d.Until.After(now) }); err != nil {
			a.log.Error("that a detail window is closed cannot be written down", "why", err)
		}
	})
}

// atItsTime ends, with the lock, what an agent does for a while only; not in an agent that
// stops, as the state folder may be another's by then.
func (a *Agent) atItsTime(end func(now time.Time)) {
	a.changing.Lock()
	defer a.changing.Unlock()
	if a.stopping {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	end(time.Now())
}

func (a *Agent) closeDetails(which func(client.Detail) bool) (closed bool, err error) {
	left := slices.DeleteFunc(slices.Clone(a.details), which)
	if len(left) == len(a.details) {
		return false, nil
	}
	for _, d := range a.details {
		if which(d) {
			a.log.Info("a detail window is closed", "rule", d.Rule, "back_to", d.From)
		}
	}
	a.details = left
	a.setLevel()
	table, err := a.withDetails(a.plan, left)
	if err != nil { // it was right with more windows
		table = a.tableOf(a.plan)
	}
	a.setTable(table)
	return true, errors.Join(err, a.state.Save(detailsFile, left))
}

// keepDetails opens the windows again that are open still, under a plan that
// has just come: those of rules that it does not have any more are gone.
func (a *Agent) keepDetails(p *plan.Plan, details []client.Detail) {
	now := time.Now()
	var kept []client.Detail
	table := a.tableOf(p)
	for _, d := range details {
		if !d.Until.After(now) {
			continue
		}
		opened, err := a.withDetails(p, append(slices.Clone(kept), d))
		if err != nil {
			a.log.Warn("a detail window is closed, because the plan has changed", "rule", d.Rule, "why", err)
			continue
		}
		kept, table = append(kept, d), opened
	}
	a.setTable(table)
	a.details = kept
	a.setLevel()
}

// setTable puts a table in force, whose rules go on with the counts of those before.
func (a *Agent) setTable(t *route.Table) {
	if a.table != nil {
		t.CountOn(a.table)
	}
	a.table = t
}

// ownLevels are the severities that the agent's own log has.
var ownLevels = []record.Severity{record.Debug, record.Info, record.Warning, record.Error}

// setLevel has the agent's own log tell what its window says, or else what it did at first.
func (a *Agent) setLevel() {
	if a.options.LogLevel == nil {
		return
	}
	level := a.level
	for _, d := range a.details {
		if d.Rule != "" {
			continue
		}
		switch to, _ := record.ParseSeverity(d.To); to {
		case record.Debug:
			level = slog.LevelDebug
		case record.Info:
			level = slog.LevelInfo
		case record.Warning:
			level = slog.LevelWarn
		default:
			level = slog.LevelError
		}
	}
	a.options.LogLevel.Set(level)
}

// readDetails returns the windows that were open when the agent ended.
func readDetails(s *state.Folder) (details []client.Detail) {
	if s.Load(detailsFile, &details) != nil {
		return nil
	}
	return details
}
