package condition

import (
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// The unit is a property like others, and stays a word that others may be called.
func TestTheUnitOfARecord(t *testing.T) {
	r := &record.Record{App: []byte("unit"), Text: []byte("started")}
	r.SetData([]byte(`[journal@32473 unit="lantern-pumps.service" boot="b1"][unit@1 unit="x"]`))
	flat := &record.Record{} // as a line that was read back has it
	flat.SetData([]byte(`{"journal@32473.unit":"lantern-pumps.service"}`))
	for condition, want := range map[string]bool{
		"unit is lantern-pumps.service": true, "unit starts with lantern-": true, "unit matches /pumps/": true, "unit exists": true, "unit missing": false,
		"unit in (ssh.service, cron.service)": false, "unit not contains tank": true, "unit is LANTERN-pumps.service": false, "unit is LANTERN-pumps.service ignoring case": true,
	} {
		c, err := Parse(condition, nil)
		if err != nil {
			t.Fatal(err)
		}
		if c.Match(r) != want || c.Match(flat) != want || c.AsksNames() {
			t.Errorf("%s: %v and %v, want %v", condition, c.Match(r), c.Match(flat), want)
		}
		if _, why := c.Explain(r); !strings.Contains(why, "unit") {
			t.Errorf("%s: %s", condition, why)
		}
	}
	for condition, want := range map[string]bool{"app is unit": true, "field unit@1.unit is x": true, "field unit is x": false, "unit is unit": false} {
		if c, err := Parse(condition, nil); err != nil || c.Match(r) != want {
			t.Errorf("%s: %v, %v", condition, !want, err)
		}
	}
	if _, err := Parse("unit > 4", nil); err == nil || !strings.Contains(err.Error(), "unit has no >") {
		t.Error(err)
	}
}
