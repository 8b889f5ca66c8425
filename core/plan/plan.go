// Package plan reads plans: a host's whole configuration, checked as a whole
// before anything of it is used, and held as plain values.
//
// It stands on top of the core: it imports the other packages of core, and
// none of them imports it. Its central type is [Plan]; docs/plan.md describes
// the file.
package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"net/netip"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/decode"
	"oakbarrel/core/disk"
	"oakbarrel/core/fingerprint"
	"oakbarrel/core/format"
	"oakbarrel/core/limit"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

// Plan is one host's configuration.
type Plan struct {
	Memory  int64  // bytes that senders can make an agent hold, 0 for the default
	File    string // where it was read
	Source  []byte
	Host    string // "" for the machine's name
	Served  bool   // the rest comes from the service
	Labels  []Label
	Values  map[string]string // that the host gives itself, where the plan is served
	Service Service
	Metrics Metrics
	Intakes []Intake
	Outlets []Outlet // their order gives them their numbers in Table
	Tends   []Tend
	Table   *route.Table
}

// Label says of a host what it is, such as role: gate.
type Label struct{ Name, Value string }

// Intake is a named way in.
type Intake struct {
	Name    string
	Kind    IntakeKind
	KeepRaw bool
	Pipes   *Pipes   // of pipes, else nil
	Files   *Files   // of files and containers, else nil
	Journal *Journal // of a journal, else nil
	Events  *Events  // of events, else nil
	Syslog  Syslog   // of an otlp intake: Allow and Default
	HTTP    string   // HOST:PORT of an otlp intake, "" for none
	GRPC    string   // likewise
}

// Syslog says what a syslog intake opens, and how it reads; an address that is
// "" is not opened.
type Syslog struct {
	Socket string // path of a unix datagram socket, or AutoSocket
	Stream string // path of a unix stream socket
	UDP    string // HOST:PORT
	TCP    string
	TLS    string

	// Certificate and KeyFile are the intake's own, for TLS; Clients says who may connect.
	Certificate, KeyFile string
	Clients              Clients
	TokenFile            string // of an otlp intake: what senders have to show, "" for nothing

	Allow       []netip.Prefix // the networks that are listened to, none for all
	Limit       limit.Rate     // of each sender, zero for none; what is over is given up
	Frames      wire.Frames    // what ends a message of a stream
	Largest     int            // bytes of a message; what is over is cut off
	Connections int            // at a time, for each address
	Idle        time.Duration  // after which a connection that says nothing is closed, 0 for never

	Default  record.Priority // of messages that say none
	Decode   []decode.Step   // that a text is tried as, none to leave it
	Reading  decode.Reading  // of times and severities
	PeerHost bool            // host is the address of the sender, whatever it claims
}

// AutoSocket stands for the socket that the init system hands over, or forwards to.
const AutoSocket = "auto"

// Clients says which certificates of clients are taken: those that an authority
// has signed, those with a fingerprint, or, if it is said, any client at all.
type Clients struct {
	CAFile       string
	Fingerprints []fingerprint.Fingerprint
	Anyone       bool
}

// Service says where the central store is; URLs is empty for none.
type Service struct {
	URLs      string // one or several addresses of one service, parted by spaces
	TokenFile string
	Proxy     string // "" for that of the environment
	TLS       TLS
}

// Outlet is a named way out.
type Outlet struct {
	Name   string
	Kind   OutletKind
	Format *format.Format
	File   roll.Settings
	Path   *format.Path // of a file whose path has places, else nil
	Files  int          // how many files such a path may become; the rest goes to one
	Open   int          // how many of them are open at a time
	Until  []string     // the outlets that its pieces wait for
	Spool  Spool        // of all but files
	Store  Store
	Remote Remote
	Notify Notify

	Journal JournalOutletSettings
	Events  EventsOutletSettings
}

// Store says to which cask of the central store records go.
type Store struct {
	Service Service
	Cask    string
}

// Spool says how records wait for delivery, and how many go at a time.
type Spool struct {
	// Disk is how many bytes the spool may take, and Floor what it leaves free.
	Disk  int64
	Floor disk.Floor
	// Wait holds back the intakes that can wait while the spool is full; else what comes from them may be shed.
	Wait bool
	// SyncEach makes every write survive a power cut; else the spool is synced each second.
	SyncEach bool
	// A batch has at most so many records and bytes, and waits so long for more.
	Records, Bytes int
	Delay          time.Duration
}

// Remote says where records go over a protocol that is not ours.
type Remote struct {
	Network string // of syslog: udp, tcp or tls
	Address string // HOST:PORT of syslog, else an URL
	TLS     TLS
	Format  string // of syslog: rfc5424 or rfc3164

	Auth     WebAuth      // of otlp and http
	Compress string       // likewise: none, gzip, or zstd for http
	Body     *format.Body // of http, for each record; nil for its JSON
}

// WebAuth says what a request shows of who asks.
type WebAuth struct {
	TokenFile          string // holds what stands behind "Bearer" in Authorization, "" for none
	User, PasswordFile string // of "Basic"; User is "" for none
	Headers            []Header
}

// Notify says how a person is told.
type Notify struct {
	WebhookFile string        // holds an address that takes JSON, "" for by mail
	Mail        Mail          // Server is "" for by webhook
	Every       time.Duration // between two notices at least
	Auth        WebAuth       // of a webhook
	Body        *format.Body  // likewise, nil for ours
}

// Mail says how mail is sent.
type Mail struct {
	Server       string // HOST:PORT
	From, To     string // addresses; To may be several, parted by spaces
	User         string // "" for none
	PasswordFile string
}

// Files returns the files that hold secrets.
func (a *WebAuth) Files() (files []string) {
	for _, file := range []string{a.TokenFile, a.PasswordFile} {
		if file != "" {
			files = append(files, file)
		}
	}
	for _, h := range a.Headers {
		if h.File != "" {
			files = append(files, h.File)
		}
	}
	return files
}

// Header is a header of HTTP. Its value may have places, see HeaderPlaces, or stands in a file.
type Header struct{ Name, Value, File string }

// TLS says how the other side's certificate is judged, and which is shown to it.
type TLS struct {
	CAFile      string // certificates to trust, "" for the system's alone
	Fingerprint string // of the only certificate to trust, "" for any
	// Certificate and KeyFile are shown to the other side, "" for none.
	Certificate, KeyFile string
}

// maxSize bounds the file of a plan, in bytes.
const maxSize = 1 << 20

// Load reads and checks the plan in a file, with its parts, which is for this machine. The plan is nil where any finding
// is an error; err says that the file could not be read at all.
func Load(file string) (*Plan, Findings, error) {
	source, findings, err := ReadFile(file)
	if err != nil || findings.Refused() {
		return nil, findings, err
	}
	p, findings := parse(file, source, machine{here: true})
	return p, findings, nil
}

// Parse reads and checks a plan; file is the name that findings give. The
// plan is nil where any finding is an error. What depends on the machine, its
// users and its disks, is not checked: the plan may be for another one.
func Parse(file string, source []byte) (*Plan, Findings) { return parse(file, source, machine{}) }

// machine says what is known of the machine that a plan is for.
type machine struct {
	here   bool    // it is this one
	bounds *Bounds // of a plan that is served to it, else nil
}

func parse(file string, source []byte, m machine) (*Plan, Findings) {
	r := &planReader{reader: reader{source: newSource(string(source)), file: file}, machine: m}
	docs, problem := r.parseYAML()
	if problem != nil {
		problem.File = file
		r.findings = Findings{*problem}
		r.inParts()
		return nil, r.findings
	}
	r.settleAlone(docs)
	p := r.readAll(docs)
	r.findings.sort()
	r.inParts()
	if r.findings.Refused() {
		return nil, r.findings
	}
	p.File, p.Source = file, source
	return p, r.findings
}

// Hash returns the SHA-256 of the file the plan was read from, in hexadecimal.
func (p *Plan) Hash() string { return Hash(p.Source) }

// Hash returns the SHA-256 of a plan's source, in hexadecimal.
func Hash(source []byte) string {
	sum := sha256.Sum256(source)
	return hex.EncodeToString(sum[:])
}

// Outlet returns the outlet of that name.
func (p *Plan) Outlet(name string) (Outlet, bool) {
	for _, o := range p.Outlets {
		if o.Name == name {
			return o, true
		}
	}
	return Outlet{}, false
}

// always stands for a condition that could not be read, so that it gives one finding only.
var always, _ = condition.Parse("any", nil)
