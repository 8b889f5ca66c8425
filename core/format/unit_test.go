package format

import (
	"testing"
	"time"

	"oakbarrel/core/record"
)

// Files and lines can be of a unit; a unit leads out of its place as little as all else.
func TestUnitsInPathsAndLines(t *testing.T) {
	path, err := ParsePath("/var/log/units/{unit}.log")
	if err != nil {
		t.Fatal(err)
	}
	line, err := Parse("{unit else none}: {text}")
	if err != nil {
		t.Fatal(err)
	}
	for data, want := range map[string][2]string{
		`[journal@32473 unit="ssh.service"]`:        {"/var/log/units/ssh.service.log", "ssh.service: x\n"},
		`[journal@32473 unit="../../etc/cron.d/x"]`: {"/var/log/units/_._.._etc_cron.d_x.log", "../../etc/cron.d/x: x\n"},
		`{"journal@32473":{"unit":7}}`:              {"/var/log/units/-.log", "none: x\n"},
		`[tank@32473 ph="8.1"]`:                     {"/var/log/units/-.log", "none: x\n"},
	} {
		r := record.Record{Text: []byte("x")}
		r.SetData([]byte(data))
		if got := string(path.Append(nil, &r, time.UTC)); got != want[0] {
			t.Errorf("%s: %s, want %s", data, got, want[0])
		}
		if got := string(line.AppendLine(nil, &r)); got != want[1] {
			t.Errorf("%s: %q, want %q", data, got, want[1])
		}
	}
	if got := string(path.AppendOther(nil, &record.Record{}, time.UTC)); got != "/var/log/units/other.log" {
		t.Error(got)
	}
}
