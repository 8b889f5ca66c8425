package plan

import (
	"fmt"
	"slices"

	"oakbarrel/core/paths"
	"oakbarrel/core/record"
)

// Journal says what a journal intake reads of the system's journal.
type Journal struct {
	Units     []string        // patterns of the units whose entries are taken, none for all
	Least     record.Severity // and those that are at least so serious
	Begin     Begin
	Namespace string // of the journal, "" for the system's
	Folder    string // of journals, such as those of other hosts, "" for this machine's
	Text      string // the settings as the plan has them: intakes that have it alike are alike
}

func (r *planReader) readJournal(e entry, in *Intake) {
	j := &Journal{Least: record.Debug, Text: e.value.String()}
	in.Journal = j
	m, ok := r.mapping(e.value, e.at, "journal", "journal: {}", "units", "priority", "since", "namespace", "folder")
	if !ok {
		return
	}
	if e, ok := m.get("units"); ok {
		for _, s := range r.texts(e, "a unit", "units: [ssh.service, 'lantern-*']") {
			if err := paths.Check(s.text); err != nil {
				r.fail(positionOf(s.node), fmt.Sprintf("%q: %v", shorten(s.text), err), "write the name of a unit, with * for any characters")
			}
			j.Units = append(j.Units, s.text)
		}
	}
	if e, ok := m.get("priority"); ok {
		if s := r.severity(e); s != nil {
			j.Least = *s
		}
	}
	j.Begin = r.readSince(m)
	j.Namespace = r.readNamespace(m)
	if e, ok := m.get("folder"); ok {
		j.Folder = r.path(e, "/var/log/journal/remote")
		if j.Namespace != "" {
			r.fail(e.at, "a folder of journals has no namespace", "take one of the two away")
		}
	}
}

// readNamespace reads which journal is meant, "" for the system's.
func (r *planReader) readNamespace(m mapping) string {
	e, ok := m.get("namespace")
	if !ok {
		return ""
	}
	v, ok := r.text(e, "the name of a namespace")
	if ok && !isNamespace(v.text) {
		r.fail(e.valueAt(), fmt.Sprintf("%q cannot be the namespace of a journal", shorten(v.text)), "write its name: letters, digits and - _ .")
	}
	return v.text
}

// JournalOutletSettings says into which journal an outlet writes.
type JournalOutletSettings struct {
	Namespace string // "" for the system's
}

// Socket returns the path of the journal's socket.
func (j JournalOutletSettings) Socket() string {
	if j.Namespace == "" {
		return "/run/systemd/journal/socket"
	}
	return "/run/systemd/journal." + j.Namespace + "/socket"
}

func (r *planReader) readJournalOutlet(e entry, out *Outlet) {
	if m, ok := r.mapping(e.value, e.at, "journal", "journal: {}", "namespace"); ok {
		out.Journal.Namespace = r.readNamespace(m)
	}
}

// checkCircles refuses outlets whose records would come in again, and go out again, for ever.
func (r *planReader) checkCircles() {
	for _, o := range r.outlets {
		if o.Kind == EventsOutlet {
			r.checkEventsCircle(o)
		}
		if o.Kind != JournalOutlet {
			continue
		}
		for _, in := range r.intakes {
			reads := in.Journal != nil && in.Journal.Folder == "" && in.Journal.Namespace == o.Journal.Namespace
			if reads || o.Journal.Namespace == "" && hearsJournal(in) {
				r.fail(r.namesAt["outlet "+o.Name], fmt.Sprintf("outlet %s writes into the journal that intake %s hears, so that its records would go round for ever", o.Name, in.Name), "take one of the two away, or give the outlet a journal of its own: journal: {namespace: NAME}")
			}
		}
	}
}

func (r *planReader) checkEventsCircle(o Outlet) {
	for _, in := range r.intakes {
		if in.Events != nil && in.Events.Takes(o.Events.Channel) {
			r.fail(r.namesAt["outlet "+o.Name], fmt.Sprintf("outlet %s writes into the channel %s that intake %s reads, so that its records would go round for ever", o.Name, o.Events.Channel, in.Name), "take one of the two away, or write into another channel")
		}
	}
}

// hearsJournal tells whether a syslog intake hears what the journal passes on.
func hearsJournal(in Intake) bool {
	return slices.Contains([]string{AutoSocket, "/run/systemd/journal/syslog"}, in.Syslog.Socket)
}

// isNamespace tells whether a text can be the namespace of a journal; it stands in a command.
func isNamespace(s string) bool { return isName(s) && s[0] != '-' }

// checkHeardTwice warns where intakes would hear the same: what the journal has, it has of
// the kernel and of the socket of syslog as well.
func (r *planReader) checkHeardTwice(intakes []Intake) {
	at := slices.IndexFunc(intakes, func(in Intake) bool {
		return in.Journal != nil && in.Journal.Namespace == "" && in.Journal.Folder == ""
	})
	if at < 0 {
		return
	}
	for _, in := range intakes {
		hears := in.Kind == KernelIntake || slices.Contains([]string{AutoSocket, "/dev/log", "/run/systemd/journal/syslog"}, in.Syslog.Socket)
		if hears {
			r.warn(r.namesAt["intake "+in.Name], fmt.Sprintf("the journal, which intake %s reads, has what intake %s hears as well, so that it comes twice", intakes[at].Name, in.Name), "take one of them away; the journal loses nothing while the agent is away")
		}
	}
}
