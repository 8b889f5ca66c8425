package tail

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/decode"
)

// Event files that are put into a folder are read once, whatever is put beside them, and one that
// is not all there yet waits for the rest.
func TestEventFilesAreRead(t *testing.T) {
	sample, err := os.ReadFile("../event/testdata/sales.evtx")
	if err != nil {
		t.Fatal(err)
	}
	b := newBench(t, "*")
	b.settings.Lines.Decode = []decode.Step{{Form: decode.Events}}
	b.settings.Lines.ForEvents()
	var want []string
	for i := range 100 {
		want = append(want, fmt.Sprintf(`1="sold %d" 2=second`, i+1))
	}
	b.write("first.evtx", string(sample[:len(sample)-1000]))
	b.start()
	b.write("later.xml", "<Event><System><Provider Name='pumpd'/><EventID>1</EventID></System>\n<EventData><Data Name='pump'>3</Data></EventData>\n</Event>\n")
	b.await("pump=3")
	b.write("first.evtx", string(sample[len(sample)-1000:]))
	b.await(append([]string{"pump=3"}, want...)...)
	b.rename("first.evtx", "first-1.evtx")
	b.write("last.xml", "<Event><System><Provider Name='pumpd'/><EventID>2</EventID></System></Event>\n")
	b.await(slices.Concat([]string{"pump=3"}, want, []string{"event 2 of pumpd"})...)
	b.gzip("first-1.evtx")
	b.write("end.xml", "<Event><System><Provider Name='pumpd'/><EventID>3</EventID></System></Event>\n")
	b.await(slices.Concat([]string{"pump=3"}, want, []string{"event 2 of pumpd", "event 3 of pumpd"})...)
	const why = "not read it is an event file that is compressed"
	got := ""
	for until := time.Now().Add(30 * time.Second); !strings.HasPrefix(got, why) && time.Now().Before(until); time.Sleep(10 * time.Millisecond) {
		got = b.state("first-1.evtx.gz")
	}
	if !strings.HasPrefix(got, why) {
		t.Errorf("an event file that is compressed is %q", got)
	}
}
