package intake

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/container"
	"oakbarrel/core/lines"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
)

const boxID = "9b46794e33f3aa01"

// box makes the files of an engine with one container, which has labels.
func box(t *testing.T, labels string) *containers {
	t.Helper()
	data := t.TempDir()
	root := filepath.Join(data, "containers")
	for path, content := range map[string]string{
		filepath.Join(root, boxID, "config.v2.json"):                            `{"ID":"` + boxID + `","Name":"/ticket-web","State":{"Running":true},"Config":{"Image":"lantern/web:3","Labels":` + labels + `}}`,
		filepath.Join(root, boxID, "hostconfig.json"):                           `{"LogConfig":{"Type":"json-file","Config":{"max-size":"10m","max-file":"3"}}}`,
		filepath.Join(data, "image/overlay2/layerdb/mounts", boxID, "mount-id"): "layer1",
		filepath.Join(data, "overlay2/layer1/diff/var/log/web.log"):             strings.Repeat("x", 1000),
	} {
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	f := &plan.Files{Engine: container.Docker, Root: root}
	f.Follow.Lines.Default = record.DefaultPriority
	return newContainers(f)
}

func (c *containers) log() string { return filepath.Join(c.files.Root, boxID, boxID+"-json.log") }

// says has the container write a line on a stream, and returns its record.
func (c *containers) says(t *testing.T, stream uint8, text string) *record.Record {
	t.Helper()
	s, why := c.describe(c.log())
	if why != "" {
		t.Fatal(why)
	}
	var out lines.Out
	m := lines.NewMaker("", s)
	m.Add(&out, &lines.Line{Text: []byte(text), Stream: record.Stream(1 + stream), Received: record.StampOf(time.Now())})
	m.Flush(&out)
	c.count(&out.Batch)
	return &out.Batch.Records[0]
}

func TestAContainersLabelsSayHowItsOutputIsTaken(t *testing.T) {
	for _, c := range []struct{ labels, want string }{
		{`{}`, "user ticket-web"},
		{`{"oakbarrel.app":"web","oakbarrel.facility":"local4"}`, "local4 web"},
		{`{"oakbarrel.facility":"nonsense","oakbarrel.join":"("}`, "user ticket-web"}, // what cannot be read changes nothing
	} {
		r := box(t, c.labels).says(t, 0, "up")
		if got := r.Facility().String() + " " + string(r.App); got != c.want {
			t.Errorf("%s: %s, want %s", c.labels, got, c.want)
		}
	}
	r := box(t, `{"team":"tickets","a b":"c"}`).says(t, 0, "up")
	want := `[container@32473 name="ticket-web" id="9b46794e33f3" image="lantern/web:3"][labels@32473 a_b="c" team="tickets"]`
	if string(r.Data) != want {
		t.Errorf("got %s", r.Data)
	}
}

func TestAConditionChoosesContainers(t *testing.T) {
	for when, chosen := range map[string]bool{
		`field "container@32473".image starts with "lantern/"`: true,
		`field "labels@32473".team is pumps`:                   false,
		`app is ticket-web`:                                    true,
	} {
		c := box(t, `{"team":"tickets"}`)
		parsed, err := condition.Parse(when, nil)
		if err != nil {
			t.Fatal(err)
		}
		c.files.When = parsed
		if _, why := c.describe(c.log()); (why == "") != chosen {
			t.Errorf("%s: %q", when, why)
		}
		if s := c.status("boxes"); s[0].Read != chosen || (s[0].Why == "") != chosen {
			t.Errorf("%s: %+v", when, s[0])
		}
	}
}

// The last lines of a container that was removed are read as its others were.
func TestAContainerThatIsRemovedKeepsItsNames(t *testing.T) {
	c := box(t, `{"oakbarrel.app":"web"}`)
	c.says(t, 0, "up")
	os.RemoveAll(filepath.Join(c.files.Root, boxID))
	if r := c.says(t, 0, "down"); string(r.App) != "web" {
		t.Errorf("the app is %q", r.App)
	}
}

func TestRatesAndLayersOfContainersOverTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := box(t, `{}`)
		ctx, end := context.WithCancel(context.Background())
		go c.watch(ctx)
		synctest.Wait()
		for range 60 { // for a minute: two a second on stdout, one on stderr
			c.says(t, 0, "a")
			c.says(t, 0, "b")
			c.says(t, 1, "c")
			time.Sleep(time.Second)
		}
		os.WriteFile(filepath.Join(filepath.Dir(c.files.Root), "overlay2/layer1/diff/var/log/web.log"), make([]byte, 4000), 0o600)
		time.Sleep(time.Minute)
		synctest.Wait()
		s := c.status("boxes")[0]
		if got := fmt.Sprintf("%d %v %v", s.LayerBytes, s.Growing, s.LayerGrowth); !strings.HasPrefix(got, "4000 [{/var/log/web.log 4000 3000}] ") || s.LayerGrowth < 60_000 {
			t.Error(got)
		}
		if len(s.Advice) != 1 || !strings.Contains(s.Advice[0].What, "own file system") {
			t.Error(s.Advice)
		}
		if s.Stdout > 20 { // nothing for a minute
			t.Errorf("%v records a minute", s.Stdout)
		}
		for range 70 {
			c.says(t, 0, "a")
			c.says(t, 0, "b")
			c.says(t, 1, "c")
			time.Sleep(time.Second)
		}
		if s = c.status("boxes")[0]; s.Stdout < 110 || s.Stdout > 125 || s.Stderr < 55 || s.Stderr > 63 {
			t.Errorf("%v and %v records a minute", s.Stdout, s.Stderr)
		}
		time.Sleep(time.Hour)
		if s = c.status("boxes")[0]; s.Stdout != 0 {
			t.Errorf("%v records a minute an hour later", s.Stdout)
		}
		end()
		synctest.Wait()
	})
}
