package doctor

import (
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"oakbarrel/agent/intake"
	"oakbarrel/core/disk"
	"oakbarrel/core/paths"
	"oakbarrel/core/plan"
)

// unitName is the unit that a package brings, and unitPlan the plan that it reads.
const (
	unitName = "oakbarrel.service"
	unitPlan = "/etc/oakbarrel/plan.yaml"
)

// DropIn is the file that gives the unit what a plan needs.
const DropIn = "/etc/systemd/system/" + unitName + ".d/plan.conf"

// itsOwn are the folders that the unit may write into in any case.
var itsOwn = []string{"/var/lib/oakbarrel", "/var/log/oakbarrel", "/run/oakbarrel"}

// rights are what a plan needs beyond what the unit has, and why.
type rights struct {
	capabilities map[string]string // why, by name
	settings     map[string]string // likewise, by line of the unit
	who          *Account          // nil where it is not known
}

// Account is whom an agent runs as.
type Account struct {
	UID, GID int
	Groups   []int // of all its groups
}

// lookAtRights tells what the plan needs and the unit of the package does not give.
func (d *doctor) lookAtRights(ctx context.Context) {
	if file, _ := filepath.Abs(d.plan.File); file != unitPlan {
		return
	}
	has, err := unitProperties(ctx)
	if err != nil || has["LoadState"] != "loaded" {
		return
	}
	r := rightsOf(d.plan, accountOfUnit(has))
	if lacks := r.lacking(has); len(lacks) > 0 {
		d.wrong("rights", unitName+" lacks what the plan needs: "+strings.Join(lacks, "; "), mendRights)
		return
	}
	d.ok("rights", unitName+" has what the plan needs")
}

const mendRights = "give it: mkdir -p /etc/systemd/system/" + unitName + ".d && oakbarrel doctor --drop-in > " + DropIn + " && systemctl daemon-reload && systemctl restart oakbarrel"

// WriteDropIn returns the drop-in that gives the unit of the package what a plan needs.
func WriteDropIn(ctx context.Context, planFile string) (string, error) {
	p, findings, err := plan.Load(planFile)
	if err != nil {
		return "", err
	}
	if findings.Refused() {
		return "", fmt.Errorf("%s has errors; look at them with: oakbarrel plan check %s", planFile, planFile)
	}
	has, _ := unitProperties(ctx) // without a manager nothing is known of its user
	return rightsOf(p, accountOfUnit(has)).dropIn(), nil
}

// Capabilities names those that a plan needs where its agent runs as somebody.
func Capabilities(planFile string, who Account) ([]string, error) {
	p, findings, err := plan.Load(planFile)
	if err != nil || findings.Refused() {
		return nil, err // the agent tells what is wrong
	}
	return slices.Sorted(maps.Keys(rightsOf(p, &who).capabilities)), nil
}

// unitProperties asks the service manager how the unit is set up.
func unitProperties(ctx context.Context) (map[string]string, error) {
	names := "LoadState,User,SupplementaryGroups,AmbientCapabilities,ReadWritePaths,ProtectHome,PrivateDevices,DeviceAllow,ProtectKernelLogs,SystemCallFilter"
	out, err := exec.CommandContext(ctx, "systemctl", "show", unitName, "--property="+names).Output()
	all := map[string]string{}
	for line := range strings.Lines(string(out)) {
		name, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
		all[name] = strings.TrimSpace(all[name] + " " + value)
	}
	return all, err
}

// AccountOf finds the account of a user, who is in some groups beside its own.
func AccountOf(name string, groups []string) (a Account, err error) {
	u, err := user.Lookup(name)
	if err != nil {
		return a, err
	}
	ids, err := u.GroupIds()
	if err != nil {
		return a, err
	}
	for _, group := range groups {
		if g, err := user.LookupGroup(group); err == nil { // one that is not there gives nothing
			ids = append(ids, g.Gid)
		}
	}
	a.UID, _ = strconv.Atoi(u.Uid) // on this system they are numbers
	a.GID, _ = strconv.Atoi(u.Gid)
	for _, id := range ids {
		n, _ := strconv.Atoi(id)
		a.Groups = append(a.Groups, n)
	}
	return a, nil
}

// accountOfUnit is whom the unit runs as, nil where that is not known.
func accountOfUnit(has map[string]string) *Account {
	a, err := AccountOf(has["User"], strings.Fields(has["SupplementaryGroups"]))
	if err != nil {
		return nil
	}
	return &a
}

func rightsOf(p *plan.Plan, who *Account) *rights {
	r := &rights{capabilities: map[string]string{}, settings: map[string]string{}, who: who}
	for _, in := range p.Intakes {
		r.intake(in)
	}
	for _, o := range p.Outlets {
		if o.Kind == plan.FileOutlet {
			r.writes("outlet "+o.Name, o.File.Path)
			if o.File.Owner != (disk.Owner{}) {
				r.chown("outlet " + o.Name)
			}
		}
	}
	for _, t := range p.Tends {
		for _, path := range t.Paths {
			r.writes("tend "+t.Name, path)
		}
		r.chown("tend " + t.Name)
		r.capabilities["CAP_DAC_OVERRIDE"] = "tend " + t.Name + " rolls the files of others"
		if t.After.Signal != "" {
			r.capabilities["CAP_KILL"] = "tend " + t.Name + " sends signals"
		}
	}
	r.listens("metrics", intake.Key{Network: intake.TCP, Address: p.Metrics.Listen})
	return r
}

func (r *rights) listens(subject string, key intake.Key) {
	if port := key.Port(); 0 < port && port < 1024 {
		r.capabilities["CAP_NET_BIND_SERVICE"] = fmt.Sprintf("%s listens on port %d", subject, port)
	}
}

func (r *rights) intake(in plan.Intake) {
	subject := "intake " + in.Name
	for _, key := range intake.KeysOf(in) {
		r.listens(subject, key)
	}
	for _, path := range []string{in.Syslog.Socket, in.Syslog.Stream} {
		if path != "" && path != plan.AutoSocket {
			r.writes(subject, path)
		}
	}
	if in.Pipes != nil {
		for _, path := range in.Pipes.Paths {
			r.writes(subject, path)
		}
	}
	if in.Files != nil {
		r.reads(subject, in.Files.Root)
		for _, path := range in.Files.Follow.Paths {
			r.reads(subject, path)
		}
	}
	for _, path := range []string{in.Syslog.Certificate, in.Syslog.KeyFile} {
		r.reads(subject, path)
	}
	if in.Kind == plan.KernelIntake {
		why := subject + " reads the kernel's messages"
		r.capabilities["CAP_SYSLOG"] = why
		for _, line := range []string{"PrivateDevices=no", "DevicePolicy=closed", "DeviceAllow=/dev/kmsg r", "ProtectKernelLogs=no"} {
			r.settings[line] = why
		}
	}
}

// reads asks for what it takes to read a path with patterns.
func (r *rights) reads(subject, path string) {
	if path == "" {
		return
	}
	base := paths.Literal(path)
	if isBelow(base, "/home", "/root", "/run/user") {
		r.settings["ProtectHome=read-only"] = subject + " reads " + path
	}
	if r.who != nil && !r.who.canRead(base) {
		r.capabilities["CAP_DAC_READ_SEARCH"] = fmt.Sprintf("%s reads %s, which its user may not", subject, path)
	}
}

// writes asks for what it takes to write a path with places and patterns.
func (r *rights) writes(subject, path string) {
	folder := paths.Literal(path)
	if folder == path {
		folder = filepath.Dir(path)
	}
	if !isBelow(folder, itsOwn...) {
		r.settings["ReadWritePaths=-"+folder] = subject + " writes " + path
		if r.who != nil && !r.who.can(folder, 0o2) {
			r.capabilities["CAP_DAC_OVERRIDE"] = fmt.Sprintf("%s writes into %s, which its user may not (or give it to that user: chown oakbarrel %s)", subject, folder, folder)
		}
	}
}

func (r *rights) chown(subject string) {
	why := subject + " gives files to others"
	r.capabilities["CAP_CHOWN"], r.capabilities["CAP_FOWNER"] = why, why
	r.settings["SystemCallFilter=@chown"] = why
}

func isBelow(path string, folders ...string) bool {
	return slices.ContainsFunc(folders, func(f string) bool { return paths.IsIn(path, f) })
}

// canRead tells whether an account may read a path, and go through the folders to it.
func (a *Account) canRead(path string) bool {
	for dir := filepath.Dir(path); dir != "/" && dir != "."; dir = filepath.Dir(dir) {
		if !a.can(dir, 0o1) {
			return false
		}
	}
	return a.can(path, 0o4)
}

// can tells whether an account has a permission of a file; what is not there is no matter.
func (a *Account) can(path string, bit os.FileMode) bool {
	st, err := os.Stat(path)
	if err != nil {
		return true
	}
	of := disk.OwnerOf(st)
	mode := st.Mode().Perm()
	switch {
	case of.User == a.UID:
		return mode>>6&bit != 0
	case slices.Contains(a.Groups, of.Group):
		return mode>>3&bit != 0
	}
	return mode&bit != 0
}

// lacking tells what a unit does not have, with why it is needed.
func (r *rights) lacking(has map[string]string) (lacks []string) {
	ambient := strings.Fields(strings.ToUpper(has["AmbientCapabilities"]))
	for _, name := range slices.Sorted(maps.Keys(r.capabilities)) {
		covered := name == "CAP_DAC_READ_SEARCH" && slices.Contains(ambient, "CAP_DAC_OVERRIDE")
		if !slices.Contains(ambient, name) && !covered {
			lacks = append(lacks, fmt.Sprintf("%s (%s)", name, r.capabilities[name]))
		}
	}
	for _, line := range slices.Sorted(maps.Keys(r.settings)) {
		if !isSet(has, line) {
			lacks = append(lacks, fmt.Sprintf("%s (%s)", line, r.settings[line]))
		}
	}
	return lacks
}

// isSet tells whether a unit has what a line gives.
func isSet(has map[string]string, line string) bool {
	name, value, _ := strings.Cut(line, "=")
	switch name {
	case "ReadWritePaths":
		for _, path := range strings.Fields(has[name]) {
			if isBelow(strings.TrimPrefix(value, "-"), strings.TrimPrefix(path, "-")) {
				return true
			}
		}
		return false
	case "ProtectHome":
		return has[name] == "no" || has[name] == value
	case "DevicePolicy":
		return true // it comes with the others
	case "DeviceAllow":
		return strings.Contains(has[name], "/dev/kmsg")
	case "SystemCallFilter":
		return strings.Contains(has[name], "chown")
	}
	return has[name] == value
}

// dropIn writes out what a plan needs, as a drop-in of the unit.
func (r *rights) dropIn() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# What the plan needs beyond the unit of the package; written by: oakbarrel doctor --drop-in\n[Service]\n")
	names := slices.Sorted(maps.Keys(r.capabilities))
	for _, name := range names {
		fmt.Fprintf(&b, "# %s: %s\n", name, r.capabilities[name])
	}
	if len(names) > 0 {
		fmt.Fprintf(&b, "CapabilityBoundingSet=%[1]s\nAmbientCapabilities=%[1]s\n", strings.Join(names, " "))
	}
	for _, line := range slices.Sorted(maps.Keys(r.settings)) {
		fmt.Fprintf(&b, "# %s\n%s\n", r.settings[line], line)
	}
	return b.String()
}
