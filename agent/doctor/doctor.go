// Package doctor looks a host over for what would stop it from working: its plan,
// its ports, sockets, folders and disks, certificates and tokens, the service and
// its clock, and what a running agent says of itself. It changes nothing and sends
// no record. [Diagnose] is all of it.
package doctor

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"oakbarrel/agent/control"
	"oakbarrel/agent/credential"
	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
	"oakbarrel/core/tail"
)

// The verdicts of a check.
const (
	VerdictOK      = "ok"
	VerdictWarning = "warning"
	VerdictWrong   = "wrong"
)

// Check is one look at what could stop a host from working.
type Check struct {
	Subject string `json:"subject"` // what was looked at
	Verdict string `json:"verdict"` // ok, warning or wrong
	What    string `json:"what"`
	Mend    string `json:"mend"`
}

// doctor looks at a host: at its plan, and at the agent if it runs.
type doctor struct {
	plan   *plan.Plan
	status *client.Status // nil where no agent runs
	checks []Check
}

func (d *doctor) ok(subject, what string)          { d.add(subject, VerdictOK, what, "") }
func (d *doctor) warn(subject, what, mend string)  { d.add(subject, VerdictWarning, what, mend) }
func (d *doctor) wrong(subject, what, mend string) { d.add(subject, VerdictWrong, what, mend) }
func (d *doctor) add(subject, verdict, what, mend string) {
	d.checks = append(d.checks, Check{subject, verdict, what, mend})
}

// Diagnose looks for what would stop a host from working: what is wrong in its
// plan, ports and sockets that others have, folders without permission, disks
// that keep cannot fit on, certificates and tokens, the service and its clock,
// and what a running agent says of itself.
func Diagnose(ctx context.Context, planFile, stateDir string) []Check {
	d := &doctor{}
	d.lookAtPlan(planFile)
	d.lookAtAgent(ctx, stateDir)
	if d.plan == nil {
		return d.checks
	}
	if d.plan.Served {
		d.lookAtServed(stateDir)
	}
	for _, in := range d.plan.Intakes {
		for _, key := range intake.KeysOf(in) {
			d.lookAtAddress(in, key)
		}
		if in.Syslog.Certificate != "" {
			d.lookAtCertificate("intake "+in.Name, in.Syslog.Certificate)
		}
	}
	for _, o := range d.plan.Outlets {
		switch o.Kind {
		case plan.FileOutlet:
			d.lookAtLive("outlet "+o.Name, o.File.Path)
		case plan.SyslogOutlet, plan.OTLPOutlet, plan.HTTPOutlet:
			d.lookAtReceiver(ctx, o)
		case plan.NotifyOutlet:
			d.lookAtNotice(o)
		default:
			d.lookAtOutletHere(o)
		}
	}
	d.lookAtRights(ctx)
	d.lookAtDisks()
	if d.plan.Service.URLs != "" {
		d.lookAtService(ctx, stateDir)
	}
	return d.checks
}

func (d *doctor) lookAtPlan(file string) {
	p, findings, err := plan.Load(file)
	switch {
	case err != nil:
		d.wrong("plan", err.Error(), "name the plan with --plan")
		return
	case findings.Refused():
		for _, f := range findings {
			d.wrong("plan", fmt.Sprintf("%s:%d:%d: %s", f.File, f.Line, f.Column, f.What), f.Mend)
		}
		return
	}
	for _, f := range findings {
		d.warn("plan", fmt.Sprintf("%s:%d:%d: %s", f.File, f.Line, f.Column, f.What), f.Mend)
	}
	if len(findings) == 0 {
		d.ok("plan", file+" has no findings")
	}
	d.plan = p
}

// lookAtServed looks at what the service has served, which is the plan then, and at the
// bounds of that.
func (d *doctor) lookAtServed(stateDir string) {
	file := plan.BoundsFile
	if d.status != nil && d.status.Plan.Served != nil {
		file = d.status.Plan.Served.Bounds
	}
	b, findings, err := plan.LoadBounds(file, stateDir)
	switch {
	case err != nil:
		d.wrong("bounds", err.Error(), "no plan is taken from the service until they can be read")
	case findings.Refused():
		for _, f := range findings {
			d.wrong("bounds", fmt.Sprintf("%s:%d:%d: %s", f.File, f.Line, f.Column, f.What), f.Mend)
		}
	case b.File == "":
		d.warn("bounds", "there is no "+file+": a plan from the service may read /var/log, write in "+stateDir+", and nothing else", "write there what it may do on this host")
	default:
		d.ok("bounds", b.File+" has no findings")
	}
	if d.status != nil && d.status.Plan.Served != nil {
		d.tellServed(d.status.Plan.Served)
	}
	if p, findings, err := plan.Load(state.PlanCopy(stateDir)); err == nil && !findings.Refused() && p.Served {
		p.File = d.plan.File
		d.plan = p
	}
}

func (d *doctor) tellServed(s *client.ServedPlan) {
	switch {
	case s.State == client.TakenBack:
		d.warn("plan", fmt.Sprintf("revision %d of plan %s was taken back: %s", s.TriedAt, s.Tried, s.Why), "mend the plan in the service, and roll it out again")
	case s.Plan == "":
		d.warn("plan", "none has come from the service yet, so nothing is taken in", "assign one to this host: oakbarrel hosts show NAME tells why it has none")
	default:
		d.ok("plan", fmt.Sprintf("revision %d of plan %s is in force", s.Revision, s.Plan))
	}
}

// lookAtAgent looks at what a running agent says of itself.
func (d *doctor) lookAtAgent(ctx context.Context, stateDir string) {
	s, err := control.AskStatus(ctx, stateDir)
	if files := state.Aside(stateDir); len(files) > 0 && err != nil {
		d.warn("agent", fmt.Sprintf("%d damaged files of the state folder were put aside, the last is %s", len(files), files[len(files)-1]), "the file beside it that ends in "+state.ReasonSuffix+" tells what it cost")
	}
	if errors.Is(err, control.ErrNoAgent) {
		d.warn("agent", "no agent runs with "+stateDir, "start it: oakbarrel agent --plan FILE --state "+stateDir)
		return
	}
	if err != nil {
		d.wrong("agent", err.Error(), "run this as the user of the agent, or as root")
		return
	}
	d.status = &s
	before := len(d.checks)
	if s.Plan.Refused != nil {
		d.wrong("agent", "it has not taken its plan: "+s.Plan.Refused.Why, "mend the plan and send SIGHUP")
	} else if s.Plan.ChangedOnDisk {
		d.warn("agent", "its plan has changed on disk since it was read", fmt.Sprintf("make it read the plan again: kill -HUP %d", s.PID))
	}
	if d.plan != nil && d.plan.File != s.Plan.File {
		if absolute, err := filepath.Abs(d.plan.File); err == nil && absolute != s.Plan.File {
			d.warn("agent", "it runs another plan, "+s.Plan.File, "look at that one with --plan")
		}
	}
	if !s.Balance.Closes {
		d.wrong("agent", fmt.Sprintf("its balance does not close: %d records are unaccounted for", s.Balance.Difference), "this is a bug; please report it")
	}
	for _, in := range s.Intakes {
		if in.Missed > 0 {
			d.warn("intake "+in.Name, fmt.Sprintf("%d records were dropped before the agent could read them", in.Missed), "run the agent as root, so that it may have a larger receive buffer, or raise net.core.rmem_max")
		}
		if in.Trouble != "" {
			mend := "it is tried again by itself"
			if in.Kind == plan.FilesIntake || in.Kind == plan.ContainersIntake {
				mend = "look into the folders with oakbarrel followed, and name what is to be followed more closely"
			}
			d.wrong("intake "+in.Name, in.Trouble, mend)
		}
		if in.TurnedAway > 0 {
			d.warn("intake "+in.Name, fmt.Sprintf("%d connections or datagrams were turned away", in.TurnedAway), "look at allow, connections and clients in the plan; the agent's log names who")
		}
	}
	for _, o := range s.Outlets {
		if o.Trouble != "" {
			d.wrong("outlet "+o.Name, o.Trouble, fmt.Sprintf("it holds %d records and tries again by itself", o.Held))
		} else if o.Shed > 0 {
			d.warn("outlet "+o.Name, fmt.Sprintf("it has shed %d records since the agent started", o.Shed), "give its spool more room, or look why it could not keep up")
		}
	}
	for _, f := range s.Faults {
		d.lookAtFault(f)
	}
	for _, f := range s.Forks {
		if time.Since(f.At) > forkTime {
			continue
		}
		d.warn("copies", fmt.Sprintf("%s (%s)", f.What, f.At.Format(time.DateTime)), cmp.Or(f.Mend, "nothing is to be done; look who copied the state folder, or set it back"))
	}
	for _, g := range s.Damaged {
		d.warn(g.Part, fmt.Sprintf("%s was found damaged at %s; it cost %s", g.File, g.At.Format(time.DateTime), g.Cost), "look whether the disk is failing; the file stands in "+g.Aside)
	}
	if len(d.checks) == before {
		d.ok("agent", fmt.Sprintf("process %d runs without troubles", s.PID))
	}
}

// lookAtFault tells of a part that has failed.
func (d *doctor) lookAtFault(f client.Fault) {
	often := fmt.Sprintf("%d times, last", f.Count)
	if f.Count == 1 {
		often = "once,"
	}
	what := fmt.Sprintf("it has failed %s at %s: %s at %s", often, f.Last.Format(time.DateTime), f.What, f.Where)
	if f.Lost > 0 {
		what += fmt.Sprintf("; %d records were lost", f.Lost)
	}
	mend := "this is a bug of the agent; please report it with this line"
	if f.Next != nil {
		d.wrong(f.Part, what, fmt.Sprintf("it is begun again at %s; %s", f.Next.Format(time.TimeOnly), mend))
		return
	}
	d.warn(f.Part, what, "it runs again; "+mend)
}

// lookAtAddress looks whether an intake can open what it listens on. Where the
// agent runs, it has.
func (d *doctor) lookAtAddress(in plan.Intake, key intake.Key) {
	subject := "intake " + in.Name
	if d.status != nil {
		return
	}
	var err error
	switch key.Network {
	case intake.UDP:
		var c net.PacketConn
		if c, err = net.ListenPacket("udp", key.Address); err == nil {
			c.Close()
		}
	case intake.TCP, intake.TLS, intake.HTTP, intake.HTTPS, intake.GRPC, intake.GRPCS:
		var l net.Listener
		if l, err = net.Listen("tcp", key.Address); err == nil {
			l.Close()
		}
	case intake.Files, intake.Containers:
		d.lookAtFiles(subject, in.Files)
		return
	default:
		d.lookHere(subject, in, key)
		return
	}
	if err == nil {
		d.ok(subject, key.String()+" can be opened")
		return
	}
	what, mend := intake.WhyNotOpen(key.String(), err)
	d.wrong(subject, what, cmp.Or(mend, "look whether the address is one of this machine"))
}

// lookAtFiles looks whether there is something to follow.
func (d *doctor) lookAtFiles(subject string, files *plan.Files) {
	found := tail.Find(files.Follow)
	readable := 0
	for _, f := range found {
		if f.State != tail.NotRead {
			readable++
			continue
		}
		if files.Engine != "" && strings.Contains(f.Path, "*") {
			continue // containers come and go, and their logs are rolled later, if ever
		}
		d.warn(subject, fmt.Sprintf("%s is not read: %s", f.Path, f.Why), "change the patterns of the intake, or the file's permissions")
	}
	if readable > 0 {
		d.ok(subject, fmt.Sprintf("%d files are found", readable))
	} else if files.Engine != "" {
		d.lookAtEngine(subject, files.Root)
	}
}

// lookAtEngine looks whether there is an engine, of whose containers none has written anything.
func (d *doctor) lookAtEngine(subject, root string) {
	if _, err := os.Stat(root); err != nil {
		d.warn(subject, fmt.Sprintf("the folder of the engine's containers cannot be read: %v", err), "install the engine, name its folder with root, or run the agent as a user who may enter it")
		return
	}
	d.ok(subject, "no container has written anything yet")
}

// lookAtLive looks whether a live file can be written.
func (d *doctor) lookAtLive(subject, path string) {
	if st, err := os.Lstat(path); err == nil && !st.Mode().IsRegular() {
		d.wrong(subject, path+" is there already and is not a regular file", "move it away, or write another path")
		return
	}
	d.lookAtFolder(subject, filepath.Dir(path))
}

// lookAtFolder looks whether files can be made in a folder, which the agent makes where it is missing.
func (d *doctor) lookAtFolder(subject, dir string) {
	missing := ""
	for {
		st, err := os.Stat(dir)
		if err == nil && !st.IsDir() {
			d.wrong(subject, dir+" is not a folder", "move it away")
			return
		}
		if err == nil {
			break
		}
		if !errors.Is(err, os.ErrNotExist) {
			d.wrong(subject, err.Error(), "run the agent as a user who may enter the folder")
			return
		}
		missing, dir = dir, filepath.Dir(dir)
	}
	if err := mayWrite(dir); err != nil {
		d.wrong(subject, fmt.Sprintf("no file can be made in %s: %v", dir, err), "give the agent's user the right to write there")
		return
	}
	if missing != "" {
		d.ok(subject, missing+" is missing; the agent makes it")
		return
	}
	d.ok(subject, dir+" can be written to")
}

// lookAtDisks compares what keep allows with the disks that it is on.
func (d *doctor) lookAtDisks() {
	report := forecast.Of(d.plan.Sources(), time.Now())
	for _, k := range report.Disks {
		var unbounded []string
		for _, s := range report.Sets {
			if s.Disk == k.Folder && s.Ceiling == nil {
				unbounded = append(unbounded, s.Name)
			}
		}
		subject, free := "disk of "+k.Folder, binarySize(k.Free)
		switch {
		case k.Free <= k.Floor:
			d.wrong(subject, fmt.Sprintf("%s are free, and %s are to stay free: nothing is written there", free, binarySize(k.Floor)), "make room, or lower disk: {floor: …}")
		case !k.Fits:
			d.wrong(subject, fmt.Sprintf("keep allows %s there, and %s are free", binarySize(*k.Ceiling), free), "lower keep, or make room")
		case len(unbounded) > 0:
			d.warn(subject, fmt.Sprintf("nothing bounds what %s may take; %s are free", strings.Join(unbounded, ", "), free), "give keep a total, or pieces beside a roll size")
		default:
			d.ok(subject, fmt.Sprintf("keep allows %s, and %s are free", binarySize(*k.Ceiling), free))
		}
	}
}

func binarySize(n int64) string {
	if n >= 10<<30 {
		return fmt.Sprintf("%.0f GiB", float64(n)/(1<<30))
	}
	return fmt.Sprintf("%.0f MiB", float64(n)/(1<<20))
}

// soon is how long before its end a certificate is a warning.
const soon = 21 * 24 * time.Hour

func (d *doctor) lookAtCertificate(subject, file string) {
	b, err := disk.ReadSmall(file, credential.Most)
	if err != nil {
		d.wrong(subject, err.Error(), "write the path of its certificate, readable by the agent's user")
		return
	}
	block, _ := pem.Decode(b)
	if block == nil {
		d.wrong(subject, file+" holds no certificate", "it begins with -----BEGIN CERTIFICATE-----")
		return
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		d.wrong(subject, fmt.Sprintf("%s: %v", file, err), "make the certificate anew")
		return
	}
	d.judgeEnd(subject, c.NotAfter)
}

func (d *doctor) judgeEnd(subject string, end time.Time) {
	day := end.Format(time.DateOnly)
	switch left := time.Until(end); {
	case left < 0:
		d.wrong(subject, "its certificate has ended on "+day, "renew it; the agent and new connections take it by themselves")
	case left < soon:
		d.warn(subject, fmt.Sprintf("its certificate ends on %s, in %d days", day, int(left.Hours()/24)), "renew it")
	default:
		d.ok(subject, "its certificate is good until "+day)
	}
}

// lookAtReceiver looks whether the other side of an outlet can be reached. It
// sends no record.
func (d *doctor) lookAtReceiver(ctx context.Context, o plan.Outlet) {
	subject := "outlet " + o.Name
	for _, file := range o.Remote.Auth.Files() {
		d.lookAtEncryption(subject, o.Remote.Address)
		if _, err := credential.Token(file); err != nil {
			d.wrong(subject, err.Error(), "write the secret into that file")
			return
		}
	}
	err := outlet.Reach(ctx, o.Remote)
	switch {
	case err != nil:
		d.wrong(subject, fmt.Sprintf("%s cannot be reached: %v", outlet.GoesTo(o), client.WithoutAddress(err)), "the outlet holds what comes until it is mended")
	case o.Remote.Network == "udp":
		d.ok(subject, outlet.GoesTo(o)+" has an address; whether anybody listens there UDP does not tell")
	default:
		d.ok(subject, outlet.GoesTo(o)+" can be reached")
	}
}

// lookAtEncryption warns of a token that goes to another machine without encryption.
func (d *doctor) lookAtEncryption(subject, address string) {
	if host, clear := plan.InTheClear(address); clear {
		d.warn(subject, fmt.Sprintf(plan.InTheClearWhat, host), plan.InTheClearMend)
	}
}

// lookAtNotice looks whether what a notice needs is there. It tells nobody.
func (d *doctor) lookAtNotice(o plan.Outlet) {
	file := cmp.Or(o.Notify.WebhookFile, o.Notify.Mail.PasswordFile)
	if file != "" {
		if _, err := credential.Token(file); err != nil {
			d.wrong("outlet "+o.Name, err.Error(), "write the address, or the password, into that file")
			return
		}
	}
	d.ok("outlet "+o.Name, "it tells "+outlet.GoesTo(o))
}

// forkTime is for how long it is told that a state folder was found to be a copy.
const forkTime = 7 * 24 * time.Hour

// mostClock is how far the clocks of host and service may be apart.
const mostClock = 5 * time.Second

// lookAtService looks whether the service takes what the plan's stores send.
func (d *doctor) lookAtService(ctx context.Context, stateDir string) {
	s := d.plan.Service
	st, err := os.Stat(s.TokenFile)
	switch {
	case err != nil:
		d.wrong("token", err.Error(), "write the token into that file: oakbarrel token new --cask NAME --may write")
		return
	case st.Mode().Perm()&0o004 != 0:
		d.warn("token", s.TokenFile+" may be read by everybody", "chmod 600 "+s.TokenFile)
	}
	for _, address := range strings.Fields(s.URLs) {
		d.lookAtEncryption("service", address)
	}
	c, err := credential.Client(s, func(token string) string { return state.TokenIn(stateDir, token) })
	if err != nil {
		d.wrong("service", err.Error(), "mend it in the plan, under service")
		return
	}
	agentID, known := state.ReadID(stateDir)
	if !known {
		agentID = client.NoAgent
	}
	for _, o := range d.plan.Outlets {
		if o.Kind != plan.StoreOutlet {
			continue
		}
		if _, err := c.Confirmed(ctx, agentID, o.Name, o.Store.Cask, ""); err != nil {
			d.wrong("outlet "+o.Name, err.Error(), "the outlet holds what comes until it is mended")
		} else {
			d.ok("outlet "+o.Name, "the store takes it into cask "+o.Store.Cask)
		}
	}
	seen, err := c.Look(ctx)
	if err != nil {
		return // told of by the outlets
	}
	if seen.Clock.Abs() > mostClock {
		d.warn("clock", fmt.Sprintf("this host's clock is %s from the service's", seen.Clock.Round(time.Second)), "let both follow a time server")
	} else {
		d.ok("clock", "it agrees with the service's")
	}
	if seen.TLS != nil {
		d.judgeEnd("service", endOf(seen.TLS))
	}
}

func endOf(s *tls.ConnectionState) time.Time { return s.PeerCertificates[0].NotAfter }
