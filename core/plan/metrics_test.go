package plan

import (
	"strings"
	"testing"
)

// Figures that others can read are warned of, and none else.
func TestWhoCanReadTheFigures(t *testing.T) {
	for address, warned := range map[string]bool{"127.0.0.1:9440": false, "127.9.9.9:9440": false, "[::1]:9440": false, "localhost:9440": false, ":9440": true, "0.0.0.0:9440": true, "10.1.2.3:9440": true, "[::]:9440": true} {
		p, findings := Parse("plan.yaml", []byte("oakbarrel: 1\nmetrics: {listen: '"+address+"'}\nintakes: {own: {own: {}}}\notherwise: {send: [all]}\noutlets: {all: {file: {path: /var/log/x.log, keep: forever}}}\n"))
		if p == nil || p.Metrics.Listen != address {
			t.Fatalf("%s: %v", address, findings)
		}
		told := false
		for _, f := range findings {
			told = told || f.Warning && strings.Contains(f.What, "can read the figures")
		}
		if told != warned {
			t.Errorf("%s: %v", address, findings)
		}
	}
}
