package agent

import (
	"fmt"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/agent/guard"
)

// twoFiles follows a file and hears a socket, and writes all into two files.
const twoFiles = `oakbarrel: 1
host: reef-02
intakes:
  pumps: {files: {paths: [DIR/pumps.log]}}
  local: {syslog: {socket: DIR/log.sock}}
rules: []
otherwise: {send: [all, more]}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
  more: {file: {path: DIR/more.log, format: '{text}', keep: forever}}
`

// A panic at any boundary ends one part for a moment: what comes from a file is
// in each outlet once all the same, what came by the socket is there once or told
// as lost, the account closes, and the status says where it was.
func TestAPanicEndsOnePartForAMoment(t *testing.T) {
	for _, at := range []string{"follow", "pass", "take", "write"} {
		for _, n := range []int{1, 4} {
			t.Run(fmt.Sprintf("%s %d", at, n), func(t *testing.T) {
				var calls atomic.Int64
				old := guard.Boundary
				guard.Boundary = func(name string) {
					if name == at && calls.Add(1) == int64(n) {
						panic("thrown by a test")
					}
				}
				defer func() { guard.Boundary = old }()
				r := run(t, twoFiles)
				socket, err := net.Dial("unixgram", r.path("log.sock"))
				if err != nil {
					t.Fatal(err)
				}
				file, err := os.Create(r.path("pumps.log"))
				if err != nil {
					t.Fatal(err)
				}
				const lines = 90
				for i := range lines {
					fmt.Fprintf(file, "f%d\n", i)
					for {
						if _, err = fmt.Fprintf(socket, "<13>d%d", i); err == nil {
							break
						}
						time.Sleep(20 * time.Millisecond) // the socket is opened anew
						if again, err := net.Dial("unixgram", r.path("log.sock")); err == nil {
							socket.Close()
							socket = again
						}
					}
					time.Sleep(20 * time.Millisecond)
				}
				for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
					all, more := r.times("all.log"), r.times("more.log")
					if all[fmt.Sprintf("f%d", lines-1)] > 0 && more[fmt.Sprintf("f%d", lines-1)] > 0 {
						break
					}
				}
				time.Sleep(300 * time.Millisecond)
				s := r.status()
				if !s.Balance.Closes {
					t.Errorf("the account does not close: %+v %+v", s.Balance, s.Outlets)
				}
				if len(s.Faults) != 1 || s.Faults[0].Count != 1 || s.Faults[0].What != "thrown by a test" || !strings.Contains(s.Faults[0].Where, ".go:") || s.Faults[0].Next != nil {
					t.Errorf("told %+v", s.Faults)
				}
				r.stop()
				for i, name := range []string{"all.log", "more.log"} {
					times, missing := r.times(name), int64(0)
					for i := range lines {
						if n := times[fmt.Sprintf("f%d", i)]; n != 1 {
							t.Errorf("%s has f%d %d times", name, i, n)
						}
						if n := times[fmt.Sprintf("d%d", i)]; n > 1 {
							t.Errorf("%s has d%d %d times", name, i, n)
						} else if n == 0 {
							missing++
						}
					}
					told := s.Outlets[i].Shed
					for _, in := range s.Intakes {
						told += in.Unreadable
					}
					if missing != told {
						t.Errorf("%s lacks %d records of the socket, and %d are told", name, missing, told)
					}
				}
			})
		}
	}
}
