package intake

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/container"
	"oakbarrel/core/lines"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
)

// Labels by which a container says how its output is to be taken.
const (
	labelFacility = "oakbarrel.facility"
	labelApp      = "oakbarrel.app"
	labelJoin     = "oakbarrel.join" // indented, none, or a regular expression for first lines
)

const (
	layerPause = time.Minute      // between two looks at what containers have written
	rateSpan   = 10 * time.Second // for which records are counted together
	rateSpans  = 6
	mostGrown  = 5 // files that are told of a container

	mostDescribed = 100 // removed containers whose names are remembered, for their last lines
)

// containers knows the containers of an intake: how their lines are read, how
// much they say, and what they write into their own file systems.
type containers struct {
	files *plan.Files

	asking sync.Mutex // held while the engine is asked
	engine *engine

	mu        sync.Mutex
	described map[string]description     // by the folder of the log
	known     map[string]*knownContainer // by id
	bySpan    time.Time
}

// knownContainer is what is counted of a container.
type knownContainer struct {
	spans  [rateSpans + 1][2]int64 // records by stream, the span that is under way first
	layer  container.Layer         // at the last look
	first  container.Layer         // at the first look
	begun  time.Time               // of the first look
	looked time.Time
}

func newContainers(f *plan.Files) *containers {
	return &containers{files: f, engine: newEngine(f), described: map[string]description{}, known: map[string]*knownContainer{}, bySpan: time.Now()}
}

// describe tells how the log at a path is read, or why it is not.
func (c *containers) describe(path string) (*lines.Settings, string) {
	found, err := container.Of(c.files.Engine, c.files.Root, path)
	if err == nil {
		c.addKnown(&found, true)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	folder := filepath.Dir(path)
	if err != nil {
		if last := c.described[folder]; last.settings != nil { // it is removed, and its last lines are being read
			return last.settings, last.why
		}
		s := c.files.Follow.Lines
		return &s, "" // better to have the lines without the names
	}
	s, why := c.chosen(found)
	c.described[folder] = description{s, why}
	return s, why
}

// addKnown adds what the runtime knows of a container.
func (c *containers) addKnown(found *container.Container, wait bool) {
	c.asking.Lock()
	defer c.asking.Unlock()
	c.engine.add(found, wait)
}

// trouble tells why labels are not known of containers, "" where they are, or nobody is
// there to be asked.
func (c *containers) trouble() string {
	c.asking.Lock()
	defer c.asking.Unlock()
	if why := c.engine.why; why != nil && (c.files.Socket != "" || !errors.Is(why, fs.ErrNotExist)) {
		return "the labels of containers are not known, as the engine cannot be asked: " + why.Error()
	}
	return ""
}

// description is how the logs in a folder are read, or why they are not.
type description struct {
	settings *lines.Settings
	why      string
}

// chosen tells how the lines of a container are read, and why it is left out.
func (c *containers) chosen(found container.Container) (*lines.Settings, string) {
	s := c.settings(found)
	if w := c.files.When; w != nil {
		var some lines.Out
		maker := lines.NewMaker("", s)
		maker.Add(&some, &lines.Line{Text: []byte("-"), Received: record.StampOf(time.Now())})
		maker.Flush(&some)
		if !w.Match(&some.Batch.Records[0]) {
			return s, "the intake's when leaves it out"
		}
	}
	return s, ""
}

// settings returns how the lines of a container are read.
func (c *containers) settings(found container.Container) *lines.Settings {
	s := c.files.Follow.Lines
	if s.App == nil {
		s.App = []byte(found.Name)
	}
	if app := found.Labels[labelApp]; app != "" {
		s.App = []byte(app)
	}
	if f, ok := record.ParseFacility(found.Labels[labelFacility]); ok {
		s.Default = record.MakePriority(f, s.Default.Severity())
	}
	switch join := found.Labels[labelJoin]; join {
	case "":
	case "indented":
		s.Join = lines.Join{Indented: true, Wait: time.Second}
	case "none":
		s.Join = lines.Join{}
	default:
		if re, err := regexp.Compile(join); err == nil && len(join) < 1000 {
			s.Join = lines.Join{Starts: re, Wait: time.Second}
		}
	}
	s.Fields = fieldsOf(found).And(s.Fields)
	return &s
}

// fieldsOf are the fields that tell which container a record is of.
func fieldsOf(c container.Container) lines.Fields {
	who := []record.Label{{Name: "name", Value: c.Name}, {Name: "id", Value: c.ShortID()}}
	if c.Image != "" {
		who = append(who, record.Label{Name: "image", Value: c.Image})
	}
	if c.Pod != "" {
		who = append(who, record.Label{Name: "pod", Value: c.Pod})
	}
	var labels []record.Label
	for name, value := range c.Labels {
		labels = append(labels, record.Label{Name: dataName(name), Value: value})
	}
	slices.SortFunc(labels, func(a, b record.Label) int { return cmp.Compare(a.Name, b.Name) })
	fields := lines.NewFields("container@32473", who...)
	if len(labels) > 0 {
		fields = fields.And(lines.NewFields("labels@32473", labels...))
	}
	return fields
}

// fieldsOfLayer returns the fields that tell whose a file is that a container has written
// into its own file system; none for any other.
func fieldsOfLayer(path string) lines.Fields {
	c, ok := container.InLayer(path)
	if !ok {
		return lines.Fields{}
	}
	if filepath.Base(filepath.Dir(filepath.Dir(c.Layer))) == "overlay" { // podman's, whose files tell no labels
		storage := filepath.Dir(filepath.Dir(filepath.Dir(c.Layer)))
		newEngine(&plan.Files{Engine: container.Podman, Root: filepath.Join(storage, "overlay-containers")}).add(&c, true)
	}
	return fieldsOf(c)
}

// dataName makes a label's name one that structured data may have.
func dataName(name string) string {
	return strings.Map(func(r rune) rune {
		if r <= ' ' || r >= 0x7f || r == '=' || r == ']' || r == '"' {
			return '_'
		}
		return r
	}, name)
}

// count counts the records of a batch, which are all of one container.
func (c *containers) count(b *record.Batch) {
	if len(b.Records) == 0 {
		return
	}
	var n [2]int64
	for i := range b.Records {
		if b.Records[i].Stream == record.Stderr {
			n[1]++
		} else {
			n[0]++
		}
	}
	id := string(b.Records[0].Fields().Root().Get([]byte("container@32473")).Get([]byte("id")).Text())
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turn(time.Now())
	k := c.of(id)
	for i := range n {
		k.spans[0][i] += n[i]
	}
}

func (c *containers) of(id string) *knownContainer {
	k := c.known[id]
	if k == nil {
		k = &knownContainer{}
		c.known[id] = k
	}
	return k
}

// turn begins another span where one is over.
func (c *containers) turn(now time.Time) {
	if long := now.Sub(c.bySpan) - rateSpan*(rateSpans+1); long > 0 { // all spans are over
		c.bySpan = c.bySpan.Add(long.Truncate(rateSpan))
	}
	for now.Sub(c.bySpan) >= rateSpan {
		c.bySpan = c.bySpan.Add(rateSpan)
		for _, k := range c.known {
			copy(k.spans[1:], k.spans[:rateSpans])
			k.spans[0] = [2]int64{}
		}
	}
}

// watch looks at what containers write into their own file systems.
func (c *containers) watch(ctx context.Context) {
	for {
		all, err := container.List(c.files.Engine, c.files.Root)
		if err == nil {
			c.forget(all)
		}
		for _, found := range all {
			if found.Layer == "" {
				continue
			}
			layer, now := container.ReadLayer(ctx, found.Layer), time.Now()
			c.mu.Lock()
			k := c.of(found.ShortID())
			if k.begun.IsZero() {
				k.begun, k.first = now, layer
			}
			k.layer, k.looked = layer, now
			c.mu.Unlock()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(layerPause):
		}
	}
}

// forget lets go of containers that are removed, once nothing comes of them any more.
func (c *containers) forget(all []container.Container) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turn(time.Now())
	there := map[string]bool{}
	for _, found := range all {
		there[found.ShortID()] = true
	}
	for id, k := range c.known {
		if !there[id] && k.spans == [rateSpans + 1][2]int64{} {
			delete(c.known, id)
		}
	}
	for folder := range c.described {
		if _, err := os.Lstat(folder); errors.Is(err, fs.ErrNotExist) && len(c.described) > len(all)+mostDescribed {
			delete(c.described, folder)
		}
	}
}

// status tells how the containers are, those that need attention first.
func (c *containers) status(intake string) (list []client.ContainerStatus) {
	all, err := container.List(c.files.Engine, c.files.Root)
	if err != nil {
		return nil
	}
	for i := range all {
		c.addKnown(&all[i], false)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turn(time.Now())
	for _, found := range all {
		id := found.ShortID()
		s := client.ContainerStatus{Intake: intake, Name: found.Name, ID: id, Image: found.Image, Pod: found.Pod, Running: found.Running, Driver: found.Driver, Advice: found.Advise(), Growing: []container.Grown{}, Read: true}
		if s.Advice == nil {
			s.Advice = []container.Advice{}
		}
		if found.Driver == "json-file" || found.Driver == "k8s-file" {
			_, s.Why = c.chosen(found)
		} else {
			s.Why = "its output is in no file that can be read"
		}
		s.Read = s.Why == ""
		if k := c.known[id]; k != nil {
			minutes := (rateSpan*rateSpans + time.Since(c.bySpan)).Minutes()
			for _, span := range k.spans {
				s.Stdout += float64(span[0]) / minutes
				s.Stderr += float64(span[1]) / minutes
			}
			s.LayerBytes = k.layer.Bytes
			if since := k.looked.Sub(k.begun); since > 0 {
				s.LayerGrowth = int64(float64(k.layer.Bytes-k.first.Bytes) / since.Hours())
			}
			s.Growing = append(s.Growing, k.layer.Since(k.first, mostGrown)...)
			if s.LayerGrowth > 0 {
				s.Advice = append(s.Advice, container.Advice{What: "it writes into its own file system, which is slow and is lost with it", Remedy: "write to stdout and stderr, or mount a volume where it writes"})
			}
		}
		list = append(list, s)
	}
	slices.SortStableFunc(list, func(a, b client.ContainerStatus) int {
		return cmp.Or(cmp.Compare(len(b.Advice), len(a.Advice)), cmp.Compare(b.LayerGrowth, a.LayerGrowth), cmp.Compare(a.Name, b.Name))
	})
	return list
}
