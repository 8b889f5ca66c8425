package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"google.golang.org/protobuf/encoding/protowire"
)

// peakMemory returns the most memory that the agent had, in bytes.
func (h *host) peakMemory() int64 {
	h.t.Helper()
	return procNumber(h.t, h.process.Process.Pid, "status", "VmHWM") << 10
}

// procNumber reads the number that stands behind a name in a file of a process's
// folder in /proc.
func procNumber(t testing.TB, pid int, file, name string) (n int64) {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", pid, file))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(b)) {
		if rest, is := strings.CutPrefix(line, name+":"); is {
			fmt.Sscan(rest, &n)
		}
	}
	return n
}

// Five kilobytes of OTLP unpack to two and a half million empty records: they
// are taken, and the agent does not grow with them.
func TestAPackedRequestOfManyRecordsTakesLittleMemory(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
intakes: {apps: {otlp: {http: "127.0.0.1:0"}}}
rules: []
otherwise: {drop: true}
outlets: {}
`)
	h.start()
	empty := bytes.Repeat([]byte{0x12, 0}, 2_500_000) // log_records without anything
	scope := protowire.AppendBytes(protowire.AppendTag(nil, 2, protowire.BytesType), empty)
	body := protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), scope)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write(body)
	z.Close()
	request, _ := http.NewRequest("POST", "http://"+h.address("http")+"/v1/logs", &packed)
	request.Header.Set("Content-Type", "application/x-protobuf")
	request.Header.Set("Content-Encoding", "gzip")
	response, err := http.DefaultClient.Do(request)
	if err != nil || response.StatusCode != http.StatusOK {
		t.Fatal(response, err)
	}
	response.Body.Close()
	s := h.status()
	if s.Rules.In != 2_500_000 || s.Memory.Used != 0 {
		t.Errorf("%d records, memory %+v", s.Rules.In, s.Memory)
	}
	if peak := h.peakMemory(); peak > 150<<20 {
		t.Errorf("the agent took %d MiB", peak>>20)
	}
}

// Connections that begin messages and do not end them share what the plan allows:
// others go on.
func TestUnfinishedMessagesHaveOneBound(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
memory: 16MiB
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
rules: []
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/all.log, keep: forever}}}
`)
	h.start()
	address := h.address("tcp")
	var conns []net.Conn
	for range 600 {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		fmt.Fprintf(c, "60000 <13>%s", strings.Repeat("x", 59000))
		conns = append(conns, c)
	}
	last, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer last.Close()
	fmt.Fprintf(last, "<13>an honest one\n")
	h.eventually("an honest message arrives", func() bool {
		return slices.ContainsFunc(h.lines("all.log"), func(l string) bool { return strings.Contains(l, "an honest one") })
	})
	s := h.status()
	if s.Memory.Limit != 16<<20 || s.Memory.Most > 16<<20 {
		t.Errorf("memory %+v", s.Memory)
	}
	if peak := h.peakMemory(); peak > 120<<20 {
		t.Errorf("the agent took %d MiB for %d connections", peak>>20, len(conns))
	}
}
