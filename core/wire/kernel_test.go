package wire

import (
	"testing"

	"oakbarrel/core/record"
)

func TestKernelRecords(t *testing.T) {
	for message, want := range map[string]string{
		"6,1,0,-;Command line: quiet\n": `{"facility":"kern","severity":"info","app":"kernel","text":"Command line: quiet"}`,
		"3,339,5140900,c;tank-bus 0000:00:01.0: no \\x1b[1m answer \\x zz\n SUBSYSTEM=pci\n DEVICE=+pci:0000:00:01.0\n bad line\n": `{"facility":"kern","severity":"error","app":"kernel","text":"tank-bus 0000:00:01.0: no \u001b[1m answer \\x zz","fields":{"kernel@32473":{"SUBSYSTEM":"pci","DEVICE":"+pci:0000:00:01.0"}}}`,
		"12,7,9,-,caller=T1;tank: by a program": `{"facility":"user","severity":"warning","text":"tank: by a program"}`,
		"no record":                             `{"facility":"kern","severity":"notice","text":"no record"}`,
		"6,x,0;y":                               `{"facility":"kern","severity":"notice","text":"6,x,0;y"}`,
	} {
		var r record.Record
		m, ok := ParseKernel(&r, []byte(message))
		if got := string(r.AppendJSON(nil)); got != want || ok == r.Unparsed {
			t.Errorf("%q:\n got %s\nwant %s", message, got, want)
		}
		if message[0] == '3' && (m.Sequence != 339 || m.Micros != 5140900) {
			t.Errorf("%+v", m)
		}
	}
}

func FuzzParseKernel(f *testing.F) {
	f.Add([]byte("3,339,5140900,c;tank-bus: no \\x1b\n SUBSYSTEM=pci\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var r record.Record
		ParseKernel(&r, b)
		r.AppendJSON(nil)
		if r.Data != nil && record.ScanData(r.Data) != len(r.Data) {
			t.Errorf("%q gives %q", b, r.Data)
		}
	})
}
