package doctor

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// mayWrite tells whether files can be made in a folder.
func mayWrite(dir string) error { return unix.Access(dir, unix.W_OK|unix.X_OK) }

// lookHere looks at what an intake reads that this system alone has.
func (d *doctor) lookHere(subject string, _ plan.Intake, key intake.Key) {
	switch key.Network {
	case intake.Unixgram, intake.Unix:
		d.lookAtSocket(subject, key)
	case intake.Kernel:
		f, err := os.Open(intake.KernelDevice)
		if err != nil {
			what, mend := intake.WhyNotOpen(key.String(), err)
			d.wrong(subject, what, cmp.Or(mend, "run the agent with the right to read it"))
			return
		}
		f.Close()
		d.ok(subject, key.String()+" can be opened")
	}
}

// lookAtOutletHere looks at where an outlet leads that this system alone has.
func (d *doctor) lookAtOutletHere(o plan.Outlet) {
	if o.Kind == plan.JournalOutlet {
		d.lookAtJournal(o)
	}
}

func (d *doctor) lookAtSocket(subject string, key intake.Key) {
	path := key.Address
	if path == plan.AutoSocket {
		d.ok(subject, "its socket is the one that the init system hands over or forwards to")
		return
	}
	if to, err := os.Readlink(path); err == nil {
		d.wrong(subject, fmt.Sprintf("%s is a link to %s: it belongs to the init system", path, to), "write socket: auto")
		return
	}
	st, err := os.Lstat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		d.lookAtFolder(subject, filepath.Dir(path))
	case err != nil:
		d.wrong(subject, err.Error(), "run the agent as a user who may enter the folder")
	case st.Mode().Type() != os.ModeSocket:
		d.wrong(subject, path+" is there already and is not a socket", "move it away")
	default:
		conn, err := net.DialUnix(string(key.Network), nil, &net.UnixAddr{Name: path, Net: string(key.Network)})
		if err == nil {
			conn.Close()
			d.wrong(subject, "another program listens on "+path, "stop it, or choose another path")
			return
		}
		d.ok(subject, path+" is left by a program that has ended; the agent replaces it")
	}
}

// lookAtJournal looks whether there is the journal that an outlet writes into.
func (d *doctor) lookAtJournal(o plan.Outlet) {
	conn, err := net.Dial("unixgram", o.Journal.Socket())
	if err != nil {
		d.wrong("outlet "+o.Name, fmt.Sprintf("%s does not listen at %s: %v", outlet.GoesTo(o), o.Journal.Socket(), client.WithoutAddress(err)), "the outlet holds what comes until it does; of a namespace, systemctl start systemd-journald@NAME")
		return
	}
	conn.Close()
	d.ok("outlet "+o.Name, outlet.GoesTo(o)+" listens")
}
