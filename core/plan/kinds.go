package plan

// IntakeKind is what a way in reads from, as the plan names it.
type IntakeKind string

// The kinds of intakes.
const (
	SyslogIntake     IntakeKind = "syslog"
	FilesIntake      IntakeKind = "files"
	ContainersIntake IntakeKind = "containers"
	PipesIntake      IntakeKind = "pipes"
	OTLPIntake       IntakeKind = "otlp"
	KernelIntake     IntakeKind = "kernel"
	JournalIntake    IntakeKind = "journal"
	EventsIntake     IntakeKind = "events" // of Windows
	OwnIntake        IntakeKind = "own"    // the agent's own log
)

var intakeKinds = []IntakeKind{SyslogIntake, FilesIntake, ContainersIntake, PipesIntake, OTLPIntake, KernelIntake, JournalIntake, EventsIntake, OwnIntake}

// OutletKind is what a way out leads to, as the plan names it.
type OutletKind string

// The kinds of outlets.
const (
	FileOutlet    OutletKind = "file"
	StoreOutlet   OutletKind = "store"
	SyslogOutlet  OutletKind = "syslog"
	OTLPOutlet    OutletKind = "otlp"
	HTTPOutlet    OutletKind = "http"
	StdoutOutlet  OutletKind = "stdout"
	JournalOutlet OutletKind = "journal"
	EventsOutlet  OutletKind = "events" // of Windows
	NotifyOutlet  OutletKind = "notify"
)

var outletKinds = []OutletKind{FileOutlet, StoreOutlet, SyslogOutlet, OTLPOutlet, HTTPOutlet, StdoutOutlet, JournalOutlet, EventsOutlet, NotifyOutlet}

// keysOf returns kinds as the keys of a mapping.
func keysOf[K ~string](kinds []K) (keys []string) {
	for _, k := range kinds {
		keys = append(keys, string(k))
	}
	return keys
}
