package cli

import (
	"os"
	"strings"
	"testing"

	"oakbarrel/agent/figures"
	"oakbarrel/service/api"
)

// The page of the figures lists each as it is, and no other.
func TestTheFiguresAreDocumented(t *testing.T) {
	page, err := os.ReadFile("../docs/metrics.md")
	if err != nil {
		t.Fatal(err)
	}
	all := append(append(figures.Families[:0:0], figures.Families...), api.Families...)
	for _, f := range all {
		labels := strings.Join(f.Labels, ", ")
		if labels == "" {
			labels = "-"
		}
		if row := "| `" + f.Name + "` | " + string(f.Kind) + " | " + labels + " | " + f.Help + " |\n"; !strings.Contains(string(page), row) {
			t.Errorf("docs/metrics.md lacks the row\n%s", row)
		}
	}
	if listed := strings.Count(string(page), "\n| `oakbarrel_"); listed != len(all) {
		t.Errorf("docs/metrics.md has %d figures, and there are %d", listed, len(all))
	}
}
