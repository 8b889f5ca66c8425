package plan

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"oakbarrel/core/disk"
	"oakbarrel/core/paths"
)

// Bounds say what a plan from the service may do on a host. Their owner is root of
// the host, so that who takes the service over cannot do more than they let it.
type Bounds struct {
	File      string      // "" where the host has none
	Read      []string    // folders and files, absolute
	Write     []string    // likewise
	Ports     [][2]int    // ranges, both ends included
	Receivers []string    // HOST or HOST:PORT
	Signals   bool        // after may send signals
	Commands  bool        // after may run commands
	Memory    int64       // bytes, 0 for usualMemory
	Disk      int64       // bytes of all sets and spools together, 0 for what the floor leaves
	Floor     *disk.Floor // that a plan may not lower, nil for 5 %

	state []string // the agent's state folder, of which its own files are left alone
}

// usualMemory is what a plan may take where its bounds do not say, in bytes.
const usualMemory = 256 << 20

// DefaultBounds hold where a host says none: nothing is read but [disk.UsualLogs], and
// nothing written but in the agent's state folder, beside the agent's own files.
func DefaultBounds(state string) *Bounds {
	b := (&Bounds{Read: slices.Clone(disk.UsualLogs)}).withState(state)
	b.Write = b.state[:1]
	return b
}

// LoadBounds reads a host's bounds; where there is no file, those by default hold. A
// file that others than root could have written is refused.
func LoadBounds(file, state string) (*Bounds, Findings, error) {
	source, err := readSmall(file)
	if errors.Is(err, fs.ErrNotExist) {
		return DefaultBounds(state), nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	switch alone, err := disk.IsOfRootAlone(file); {
	case err != nil:
		return nil, nil, err
	case !alone:
		return nil, Findings{{File: file, Position: Position{1, 1}, What: "others than " + disk.Root + " could have written this file", Mend: disk.GiveToRoot(file)}}, nil
	}
	b, findings := ParseBounds(file, source)
	if b != nil {
		b.withState(state)
	}
	return b, findings, nil
}

// ParseBounds reads bounds; they are nil where any finding is an error.
func ParseBounds(file string, source []byte) (*Bounds, Findings) {
	r := &reader{source: newSource(string(source)), file: file}
	docs, problem := r.parseYAML()
	if problem != nil {
		problem.File = file
		return nil, Findings{*problem}
	}
	b := &Bounds{File: file}
	m, _ := r.mapping(docs[0].body, Position{1, 1}, "the file of bounds", "read: [/var/log] and what else a plan may do", "read", "write", "ports", "receivers", "after", "memory", "disk", "floor")
	for _, list := range []struct {
		key string
		to  *[]string
	}{{"read", &b.Read}, {"write", &b.Write}} {
		if e, ok := m.get(list.key); ok {
			*list.to = r.folders(e)
		}
	}
	if e, ok := m.get("ports"); ok {
		b.Ports = r.ports(e)
	}
	if e, ok := m.get("receivers"); ok {
		for _, s := range r.texts(e, "a receiver", `receivers: ["logs.lantern.example:8440"]`) {
			b.Receivers = append(b.Receivers, strings.ToLower(s.text))
		}
	}
	if e, ok := m.get("after"); ok {
		word := r.word(e, []string{"none", "signals", "commands"})
		b.Signals, b.Commands = word != "none" && word != "", word == "commands"
	}
	if e, ok := m.get("memory"); ok {
		b.Memory = r.size(e)
	}
	if e, ok := m.get("disk"); ok {
		b.Disk = r.size(e)
	}
	if e, ok := m.get("floor"); ok {
		of := &planReader{reader: *r}
		floor := of.readFloor(e)
		b.Floor, r.findings = &floor, of.findings
	}
	r.findings.sort()
	if r.findings.Refused() {
		return nil, r.findings
	}
	return b, r.findings
}

// folders reads a list of absolute paths without patterns.
func (r *reader) folders(e entry) (all []string) {
	for _, s := range r.texts(e, "a folder", e.key+": [/var/log]") {
		if !filepath.IsAbs(s.text) || strings.ContainsAny(s.text, "*?[{") {
			r.fail(positionOf(s.node), fmt.Sprintf("%q is not the path of a folder", shorten(s.text)), "write an absolute path without patterns; all that is in it is meant")
			continue
		}
		all = append(all, filepath.Clean(s.text))
	}
	return all
}

// ports reads a list of ports and ranges of them.
func (r *reader) ports(e entry) (all [][2]int) {
	for _, s := range r.texts(e, "a port", `ports: [514, "6000-6100"]`) {
		first, last, isRange := strings.Cut(s.text, "-")
		if !isRange {
			last = first
		}
		from, err := strconv.ParseUint(strings.TrimSpace(first), 10, 16)
		to, err2 := strconv.ParseUint(strings.TrimSpace(last), 10, 16)
		if err != nil || err2 != nil || to < from {
			r.fail(positionOf(s.node), fmt.Sprintf("%q is no port", shorten(s.text)), `write a port, or a range of them, such as "6000-6100"`)
			continue
		}
		all = append(all, [2]int{int(from), int(to)})
	}
	return all
}

// LoadServed reads a plan that the service serves to this machine, with what the host's
// own file adds to it, and tells what its bounds forbid.
func LoadServed(file string, served, own []byte, b *Bounds) (*Plan, Findings) {
	return parseServed(file, served, own, machine{here: true, bounds: b})
}

// ParseServed is LoadServed for a plan that is for another machine. Bounds may be nil,
// where they are not known.
func ParseServed(file string, served, own []byte, b *Bounds) (*Plan, Findings) {
	return parseServed(file, served, own, machine{bounds: cmp.Or(b, anything)})
}

func parseServed(file string, served, own []byte, m machine) (*Plan, Findings) {
	for _, d := range newSource(string(served)).markers() {
		if d.part == HostPart { // it would speak for the host
			return nil, Findings{{File: file, Position: Position{1, 1}, What: "what is served has a part host, which is the host's own file", Mend: "give the plan another name"}}
		}
	}
	return parse(file, append(slices.Clone(served), Join([]Part{{HostPart, own}})...), m)
}

// anything are bounds that forbid nothing.
var anything = &Bounds{Read: []string{"/"}, Write: []string{"/"}, Ports: [][2]int{{0, math.MaxUint16}}, Receivers: []string{"*"}, Signals: true, Commands: true, Memory: math.MaxInt64, Floor: &disk.Floor{}}

// onlyHost are the keys that a host says of itself; a served plan cannot.
var onlyHost = []string{"host", "service", "plan", "labels"}

// ofHost are the keys that a host adds to a plan that is served to it.
var ofHost = append([]string{"oakbarrel", "values"}, onlyHost...)

// checkSaid tells where a served plan says what is the host's own, and where the host
// says more than that.
func (r *planReader) checkSaid(docs []document) {
	for _, d := range docs {
		for _, v := range valuesOf(d.body) {
			key, _ := r.scalarOf(v.Key)
			name := strings.ToLower(key.text)
			switch {
			case d.part != HostPart && slices.Contains(onlyHost, name):
				r.fail(positionOf(v.Key), fmt.Sprintf("a served plan cannot say %s", name), "it is for the host to say, in its own file")
			case d.part == HostPart && !slices.Contains(ofHost, name):
				r.fail(positionOf(v.Key), fmt.Sprintf("%s comes from the service, as the plan is served", shorten(key.text)), "take it away, or write plan: own")
			}
		}
	}
}

// bounder finds what a plan does outside of its bounds.
type bounder struct {
	*planReader
	b  *Bounds
	at Position // of what is looked at
	of string   // its name, such as "outlet all"
}

func (r *planReader) checkBounds(p *Plan) {
	c := &bounder{planReader: r, b: r.bounds}
	own := p.Service
	for _, in := range p.Intakes {
		c.look("intake " + in.Name)
		c.intake(in)
	}
	for _, o := range p.Outlets {
		c.look("outlet " + o.Name)
		c.outlet(o, own)
	}
	for _, t := range p.Tends {
		c.look("tend " + t.Name)
		c.tend(t)
	}
	c.of, c.at = "the plan", c.namesAt["metrics"]
	c.listens(p.Metrics.Listen)
	c.look("")
	c.amounts(p)
}

func (c *bounder) look(of string) { c.of, c.at = of, c.namesAt[of] }

func (c *bounder) forbid(what, key string) {
	if c.of != "" {
		what = c.of + " " + what
	}
	mend := "the host has no bounds.yaml, which would allow it"
	if c.b.File != "" {
		mend = fmt.Sprintf("its owner can allow it under %s in %s", key, c.b.File)
	}
	c.fail(c.at, "the bounds of this host forbid that "+what, mend)
}

func (c *bounder) reads(all ...string) {
	c.touches(all, "reads", "read", c.b.Read)
}

func (c *bounder) writes(all ...string) {
	c.touches(all, "writes", "write", c.b.Write)
}

// touches looks at paths that are read or written.
func (c *bounder) touches(all []string, does, key string, folders []string) {
	for _, path := range all {
		switch {
		case path == "":
		case !inside(path, folders):
			c.forbid(does+" "+shorten(path), key)
		case c.b.isAgents(path):
			c.fail(c.at, fmt.Sprintf("%s %s %s, which can be the agent's own", c.of, does, shorten(path)), "write another path, such as "+filepath.Join(c.b.state[0], "logs", filepath.Base(path)))
		}
	}
}

// inside tells whether all that a path with patterns or places can be lies in one of
// the folders.
func inside(path string, folders []string) bool {
	if slices.Contains(paths.Parts(path), "..") {
		return false
	}
	at := filepath.Clean(cmp.Or(paths.Literal(path), paths.Separator))
	return slices.ContainsFunc(folders, func(f string) bool { return paths.IsIn(at, f) })
}

func (c *bounder) listens(all ...string) {
	for _, address := range all {
		if address == "" {
			continue
		}
		_, text, _ := net.SplitHostPort(address)
		port, err := strconv.Atoi(text)
		if err != nil || !slices.ContainsFunc(c.b.Ports, func(r [2]int) bool { return r[0] <= port && port <= r[1] }) {
			c.forbid("listens on port "+text, "ports")
		}
	}
}

// sends looks at addresses, each an URL or HOST:PORT; several of a service are parted by spaces.
func (c *bounder) sends(all ...string) {
	for _, some := range all {
		for _, address := range strings.Fields(some) {
			host, port := receiverOf(address)
			if !slices.ContainsFunc(c.b.Receivers, func(r string) bool {
				return r == "*" || r == host || r == net.JoinHostPort(host, port)
			}) {
				c.forbid("sends to "+net.JoinHostPort(host, port), "receivers")
			}
		}
	}
}

// receiverOf returns the host and port that an address leads to.
func receiverOf(address string) (host, port string) {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		host, port = u.Hostname(), u.Port()
		if port == "" {
			port = map[string]string{"https": "443", "http": "80"}[strings.ToLower(u.Scheme)]
		}
	} else if host, port, err = net.SplitHostPort(address); err != nil {
		host = address
	}
	return strings.ToLower(host), port
}

func (c *bounder) intake(in Intake) {
	s := in.Syslog
	c.listens(s.UDP, s.TCP, s.TLS, in.HTTP, in.GRPC)
	c.writes(s.Stream)
	if s.Socket == AutoSocket {
		c.writes("/dev/log")
	} else {
		c.writes(s.Socket)
	}
	c.reads(s.Certificate, s.KeyFile, s.Clients.CAFile, s.TokenFile)
	if in.Pipes != nil {
		c.writes(in.Pipes.Paths...)
	}
	if in.Files != nil {
		c.reads(in.Files.Root, in.Files.Socket)
		c.reads(in.Files.Follow.Paths...)
	}
	if in.Kind == KernelIntake {
		c.reads("/dev/kmsg")
	}
	if in.Journal != nil {
		c.reads(cmp.Or(in.Journal.Folder, "/var/log/journal"))
	}
	if in.Events != nil {
		for _, channel := range in.Events.Channels {
			c.reads(disk.EventLog(channel))
		}
	}
}

func (c *bounder) outlet(o Outlet, own Service) {
	switch o.Kind {
	case FileOutlet:
		c.writes(o.File.Path)
	case StoreOutlet:
		if o.Store.Service != own {
			c.sends(o.Store.Service.URLs, o.Store.Service.Proxy)
			c.reads(o.Store.Service.TokenFile)
			c.tls(o.Store.Service.TLS)
		}
	}
	if o.Kind == JournalOutlet {
		c.writes(o.Journal.Socket())
	}
	if o.Kind == EventsOutlet {
		c.writes(disk.EventLog(o.Events.Channel))
	}
	c.sends(o.Remote.Address, o.Notify.Mail.Server)
	c.tls(o.Remote.TLS)
	c.reads(o.Remote.Auth.Files()...)
	c.reads(o.Notify.Auth.Files()...)
	c.reads(o.Notify.WebhookFile, o.Notify.Mail.PasswordFile) // where a webhook leads to is for the owner of its file to say
}

func (c *bounder) tls(t TLS) { c.reads(t.CAFile, t.Certificate, t.KeyFile) }

func (c *bounder) tend(t Tend) {
	c.writes(t.Paths...)
	c.reads(t.After.PIDFile)
	if t.After.Signal != "" && !c.b.Signals {
		c.forbid("sends signals", "after: signals")
	}
	if t.After.Command != nil && !c.b.Commands {
		c.forbid("runs "+shorten(strings.Join(t.After.Command, " ")), "after: commands")
	}
}

// amounts looks at what the whole plan takes.
func (c *bounder) amounts(p *Plan) {
	c.at = c.namesAt["memory"]
	if p.Memory > cmp.Or(c.b.Memory, usualMemory) {
		c.forbid(fmt.Sprintf("the plan takes %d MiB of memory", p.Memory>>20), "memory")
	}
	c.at = c.namesAt["disk"]
	if least := c.b.leastFloor(); c.floor.Percent < least.Percent || c.floor.Bytes < least.Bytes {
		c.forbid("less of the disk stays free than it wants", "floor")
	}
	if c.b.Disk == 0 {
		return
	}
	c.at = c.namesAt["outlets"]
	switch takes, unbounded := p.AtMost(); {
	case unbounded != "":
		c.forbid(unbounded+" takes more and more of the disk", "disk")
	case takes > c.b.Disk:
		c.forbid(fmt.Sprintf("the plan takes %d MiB of the disk", takes>>20), "disk")
	}
}

// AtMost returns what the sets and spools of a plan may take of disks at most, in bytes;
// unbounded names a set that nothing bounds, "" for none.
func (p *Plan) AtMost() (takes int64, unbounded string) {
	for _, o := range p.Outlets {
		takes += o.Spool.Disk
	}
	for _, s := range sources(p.Outlets, p.Tends) {
		ceiling := s.Settings.Ceiling()
		if ceiling <= 0 {
			return 0, s.Name
		}
		takes += ceiling * int64(max(1, filesOf(p, s.Name)))
	}
	return takes, ""
}

// leastFloor is what a plan leaves free at least; one that says nothing leaves as much.
func (b *Bounds) leastFloor() disk.Floor {
	if b == nil || b.Floor == nil {
		return disk.Floor{Percent: 5}
	}
	return *b.Floor
}

// filesOf returns how many files an outlet may have, 0 for what is no outlet.
func filesOf(p *Plan, name string) int {
	o, ok := p.Outlet(name)
	if !ok || o.Path == nil {
		return 0
	}
	return o.Files
}
