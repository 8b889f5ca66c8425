package wire

import (
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// What turns text around, or is taken for a command by a terminal, does not stand in
// a line as it is, and is there again when the line is read.
func TestALineTurnsNoTextAround(t *testing.T) {
	for r := rune(0x80); r < 0x3000; r++ {
		if !record.Dangerous(r) {
			continue
		}
		text := "pump " + string(r) + "P1\\ é"
		in := record.Record{Priority: record.DefaultPriority, Text: []byte(text), Data: []byte(`[sale@32473 note="` + string(r) + `"]`)}
		line := AppendRFC5424Line(nil, &in)
		if strings.ContainsRune(string(line), r) || !strings.Contains(string(line), "é") {
			t.Fatalf("%U: %q", r, line)
		}
		var out record.Record
		parser := Parser{Default: record.DefaultPriority}
		parser.Parse(&out, line)
		if string(out.Text) != text || !strings.Contains(string(out.Data), string(r)) {
			t.Errorf("%U: read back are %q and %q", r, out.Text, out.Data)
		}
	}
}
