package event

import (
	"bytes"
	"flag"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"unicode/utf16"

	"oakbarrel/core/record"
)

// written makes event files as the system writes them: names and templates stand in a chunk where
// they are used first.
type written struct {
	file   []byte
	chunk  []byte
	names  map[string]int
	parts  map[string]int // where the template of a body stands
	first  uint64
	last   uint64
	chunks int
}

func u16s(s string) (b []byte) {
	for _, u := range utf16.Encode([]rune(s)) {
		b = le.AppendUint16(b, u)
	}
	return b
}

func (w *written) put(b ...byte)   { w.chunk = append(w.chunk, b...) }
func (w *written) u16(n int)       { w.chunk = le.AppendUint16(w.chunk, uint16(n)) }
func (w *written) u32(n int)       { w.chunk = le.AppendUint32(w.chunk, uint32(n)) }
func (w *written) set32(at, n int) { le.PutUint32(w.chunk[at:], uint32(n)) }
func (w *written) text(s string) {
	w.put(valueToken, stringKind)
	w.u16(len(u16s(s)) / 2)
	w.put(u16s(s)...)
}
func (w *written) of(i, kind int)    { w.put(valueOf); w.u16(i); w.put(byte(kind)) }
func (w *written) maybe(i, kind int) { w.put(optionalOf); w.u16(i); w.put(byte(kind)) }

func (w *written) name(s string) {
	if at, ok := w.names[s]; ok {
		w.u32(at)
		return
	}
	at := len(w.chunk) + 4
	w.names[s] = at
	w.u32(at)
	w.u32(0)
	w.u16(0)
	w.u16(len(u16s(s)) / 2)
	w.put(u16s(s)...)
	w.u16(0)
}

// element writes an element that depends on a value, or always is; its attributes are pairs of a
// name and what writes the value.
func (w *written) element(name string, depends int, content func(), attributes ...any) {
	token := byte(openToken)
	if len(attributes) > 0 {
		token |= moreFlag
	}
	w.put(token)
	w.u16(depends)
	w.u32(0)
	w.name(name)
	if len(attributes) > 0 {
		w.u32(0)
		for i := 0; i < len(attributes); i += 2 {
			w.put(attributeToken)
			w.name(attributes[i].(string))
			attributes[i+1].(func())()
		}
	}
	if content == nil {
		w.put(closeAlone)
		return
	}
	w.put(closeOpenToken)
	content()
	w.put(closeToken)
}

// template writes an instance of a template with values.
func (w *written) template(name string, body func(), values ...value) {
	w.put(templateToken, 1)
	w.u32(len(name))
	if at, ok := w.parts[name]; ok {
		w.u32(at)
	} else {
		at := len(w.chunk) + 4
		w.parts[name] = at
		w.u32(at)
		w.put(make([]byte, 24)...)
		w.put(fragmentToken, 1, 1, 0)
		body()
		w.put(endToken)
		w.set32(at+20, len(w.chunk)-at-24)
	}
	w.u32(len(values))
	for _, v := range values {
		w.u16(len(v.data))
		w.put(v.kind, 0)
	}
	for _, v := range values {
		w.put(v.data...)
	}
}

func number(kind byte, n uint64) value {
	return value{kind: kind, data: le.AppendUint64(nil, n)[:sizes[kind]]}
}
func words16(s string) value { return value{kind: stringKind, data: u16s(s)} }

// event writes an event with a number, in a new chunk where the last is full.
func (w *written) event(n uint64, body func()) {
	if w.chunk == nil || len(w.chunk) > chunkSize-8192 {
		w.endChunk()
		w.chunk, w.names, w.parts, w.first = make([]byte, chunkHead, chunkSize), map[string]int{}, map[string]int{}, n
	}
	at := len(w.chunk)
	w.u32(recordMark)
	w.u32(0)
	w.chunk = le.AppendUint64(w.chunk, n)
	w.chunk = le.AppendUint64(w.chunk, 0)
	w.put(fragmentToken, 1, 1, 0)
	body()
	w.put(endToken)
	w.set32(at+4, len(w.chunk)+4-at)
	w.u32(len(w.chunk) + 4 - at)
	w.last = n
}

func (w *written) endChunk() {
	if w.chunk == nil {
		return
	}
	c := w.chunk
	free := len(c)
	copy(c, chunkMark)
	for at, n := range map[int]uint64{8: w.first, 16: w.last, 24: w.first, 32: w.last} {
		le.PutUint64(c[at:], n)
	}
	le.PutUint32(c[40:], 128)
	le.PutUint32(c[48:], uint32(free))
	le.PutUint32(c[52:], crc32.ChecksumIEEE(c[chunkHead:free]))
	le.PutUint32(c[124:], crc32.Update(crc32.ChecksumIEEE(c[:120]), crc32.IEEETable, c[128:chunkHead]))
	w.file = append(w.file, c[:chunkSize]...)
	w.chunks++
	w.chunk = nil
}

// whole returns the file. Its chunks begin in the middle, as those of a ring do.
func (w *written) whole() []byte {
	w.endChunk()
	head := make([]byte, fileHead)
	copy(head, fileMark)
	le.PutUint32(head[32:], 128)
	le.PutUint16(head[42:], uint16(w.chunks))
	turn := w.chunks / 2 * chunkSize
	return append(append(head, w.file[turn:]...), w.file[:turn]...)
}

// sale writes the event of a sale, as most events are: a template for all, and one for its values.
func (w *written) sale(n uint64, host, text string) {
	w.event(n, func() {
		w.template("event", w.saleBody, number(0x11, 134_085_393_001_234_567+n*10_000_000), number(0x0a, n), number(4, 2), number(0x15, 0x8080000000000000), words16(host),
			value{kind: sidKind, data: []byte{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}}, value{}, value{kind: stringKind | arrayFlag, data: append(append(u16s(text), 0, 0), u16s("second")...)}, number(8, 412))
	})
}

func (w *written) saleBody() {
	w.element("Event", always, func() {
		w.element("System", always, func() {
			w.element("Provider", always, nil, "Name", func() { w.text("ticketd") }, "Guid", func() { w.maybe(6, guidKind) })
			w.element("EventID", always, func() { w.text("7") })
			w.element("Level", always, func() { w.of(2, 4) })
			w.element("Keywords", always, func() { w.of(3, hex64Kind) })
			w.element("TimeCreated", always, nil, "SystemTime", func() { w.of(0, fileTimeKind) })
			w.element("EventRecordID", always, func() { w.of(1, 10) })
			w.element("Correlation", 6, nil, "ActivityID", func() { w.maybe(6, guidKind) })
			w.element("Execution", always, nil, "ProcessID", func() { w.of(8, 8) })
			w.element("Channel", always, func() { w.text("Lantern") })
			w.element("Computer", always, func() { w.of(4, stringKind) })
			w.element("Security", always, nil, "UserID", func() { w.of(5, sidKind) })
		})
		w.element("EventData", always, func() {
			w.element("Data", always, func() { w.of(7, stringKind|arrayFlag) })
		})
	}, "xmlns", func() { w.text("http://schemas.microsoft.com/win/2004/08/events/event") })
}

func linesOf(t *testing.T, file []byte) []string {
	t.Helper()
	b, err := io.ReadAll(NewFileReader(bytes.NewReader(file)))
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
}

func TestAnEventFileIsReadInTheOrderOfItsEvents(t *testing.T) {
	var w written
	const many = 2000
	for n := uint64(1); n <= many; n++ {
		w.sale(n, "kelp-01", fmt.Sprintf("sold %d & more\nof \"it\" 😀", n))
	}
	file := w.whole()
	if w.chunks < 4 {
		t.Fatalf("%d chunks", w.chunks)
	}
	all := linesOf(t, file)
	if len(all) != many {
		t.Fatalf("%d lines, not %d: %s", len(all), many, all[0])
	}
	for i, line := range all {
		r := filled(t, line)
		want := fmt.Sprintf(`1="sold %d & more\nof \"it\" 😀" 2=second`, i+1)
		if string(r.Text) != want {
			t.Fatalf("event %d: %s, not %s", i+1, r.Text, want)
		}
	}
	r := filled(t, all[6])
	if got, want := string(r.AppendJSON(nil)), `{"time":"2025-11-25T10:15:07.1234567Z","facility":"daemon","severity":"error","host":"kelp-01","app":"ticketd","procid":"412","msgid":"7",`+
		`"text":"1=\"sold 7 & more\\nof \\\"it\\\" 😀\" 2=second","fields":{"event@32473":{"channel":"Lantern","id":7,"level":2,"record":7,"keywords":"0x8080000000000000","user":"S-1-5-18","data":{"1":"sold 7 & more\nof \"it\" 😀","2":"second"}}}}`; got != want {
		t.Errorf("\n%s, not\n%s", got, want)
	}
}

// TestTheSample holds the event file that tests of other packages read to the format.
func TestTheSample(t *testing.T) {
	var w written
	for n := uint64(1); n <= 100; n++ {
		w.sale(n, "kelp-01", fmt.Sprintf("sold %d", n))
	}
	made := w.whole()
	if *update {
		if err := os.WriteFile(sample, made, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := os.ReadFile(sample); err != nil || !bytes.Equal(kept, made) {
		t.Errorf("%s is another: %v; run the test with -update", sample, err)
	}
}

const sample = "testdata/sales.evtx"

var update = flag.Bool("update", false, "write the sample anew")

// TestEventsWithXMLInTheirValues shows a part of an event that has a template of its own.
func TestEventsWithXMLInTheirValues(t *testing.T) {
	var w written
	inner := func() {
		w.template("inner", func() {
			w.element("Opened", always, func() {
				w.element("Gate", always, func() { w.of(0, 8) })
				w.element("By", always, func() { w.of(1, stringKind) })
				w.element("Why", 2, func() { w.maybe(2, stringKind) })
			})
		}, number(8, 4), words16("door-badge"), value{})
	}
	w.event(9, func() {
		body := func() {
			w.element("Event", always, func() {
				w.element("System", always, func() {
					w.element("Provider", always, nil, "Name", func() { w.text("door-badge") })
					w.element("EventID", always, func() { w.text("3") })
				})
				w.element("UserData", always, func() { w.of(0, binaryXMLKind) })
			})
		}
		w.template("outer", body, value{kind: binaryXMLKind, data: make([]byte, 0)})
		sizeAt := len(w.chunk) - 4
		begun := len(w.chunk)
		w.put(fragmentToken, 1, 1, 0)
		inner()
		w.put(endToken)
		le.PutUint16(w.chunk[sizeAt:], uint16(len(w.chunk)-begun))
	})
	all := linesOf(t, w.whole())
	if r := filled(t, all[0]); string(r.Text) != "Gate=4 By=door-badge" {
		t.Errorf("%s: %s", r.Text, all[0])
	}
}

func TestHowValuesAreWritten(t *testing.T) {
	for want, v := range map[string]value{
		"-1": {kind: 3, data: []byte{0xff}}, "255": {kind: 4, data: []byte{0xff}}, "-2": {kind: 5, data: []byte{0xfe, 0xff}}, "65534": {kind: 6, data: []byte{0xfe, 0xff}},
		"-3": number(7, 1<<32-3), "4294967293": number(8, 1<<32-3), "-4": number(9, 1<<64-4), "18446744073709551612": number(10, 1<<64-4), "1.5": {kind: 12, data: []byte{0, 0, 0, 0, 0, 0, 0xf8, 0x3f}},
		"true": number(boolKind, 1), "{03020100-0504-0706-0809-0A0B0C0D0E0F}": {kind: guidKind, data: []byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}},
		"2026-11-25T10:15:07.045Z": {kind: systemKind, data: []byte{0xea, 7, 11, 0, 3, 0, 25, 0, 10, 0, 15, 0, 7, 0, 45, 0}}, "0xff": number(hex32Kind, 255), "0x10": {kind: sizeKind, data: []byte{16, 0, 0, 0}},
		"0AFF": {kind: binaryKind, data: []byte{10, 255}}, "a&lt;é": {kind: bytesKind, data: []byte("a<\xe9\x00")}, "": {}, "01": {kind: 8, data: []byte{1}}, "0102": {kind: sidKind, data: []byte{1, 2}},
	} {
		if got := string(appendValue(nil, v)); got != want {
			t.Errorf("%x: %s, not %s", v, got, want)
		}
	}
}

// TestDamagedEventFiles damages files at random: what is whole still comes, once, and never a panic.
func TestDamagedEventFiles(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 22))
		var w written
		const many = 900
		for n := uint64(1); n <= many; n++ {
			w.sale(n, "reef-02", fmt.Sprintf("sold %d", n))
		}
		file := w.whole()
		for range 1 + random.IntN(40) {
			at := random.IntN(len(file))
			switch random.IntN(3) {
			case 0:
				file[at] ^= 1 << random.IntN(8)
			case 1:
				clear(file[at:min(len(file), at+random.IntN(600))])
			case 2:
				copy(file[at:], file[random.IntN(len(file)):][:min(300, len(file)-at, 100)])
			}
		}
		if random.IntN(4) == 0 {
			file = file[:random.IntN(len(file))]
		}
		seen := map[string]bool{}
		for _, line := range linesOf(t, file) {
			var p Reader
			e, _, err := p.Read([]byte(line), nil)
			if err != nil {
				continue
			}
			var r record.Record
			e.Fill(&r, nil)
			key := fmt.Sprintf(`1="sold %s" 2=second`, e.Record)
			if seen[key] {
				t.Fatalf("seed %d: twice: %s", seed, line)
			}
			seen[key] = string(r.Text) == key
		}
		if len(file) > 200_000 && len(seen) < many/4 {
			t.Errorf("seed %d: only %d of %d", seed, len(seen), many)
		}
	}
}

// TestAFileThatIsBeingWritten shows a copy whose heads are older than its events.
func TestAFileThatIsBeingWritten(t *testing.T) {
	var w written
	for n := uint64(1); n <= 20; n++ {
		w.sale(n, "kelp-01", "sold")
	}
	file := w.whole()
	head := file[fileHead:]
	third := chunkHead
	for range 3 {
		third += int(le.Uint32(head[third+4:]))
	}
	le.PutUint64(head[32:], 3)
	le.PutUint32(head[48:], uint32(third))
	le.PutUint32(head[52:], crc32.ChecksumIEEE(head[chunkHead:third]))
	le.PutUint32(head[124:], crc32.Update(crc32.ChecksumIEEE(head[:120]), crc32.IEEETable, head[128:chunkHead]))
	if all := linesOf(t, file); len(all) != 3 {
		t.Errorf("what is behind the end came, %d lines", len(all))
	}
	file[120] |= 1
	if all := linesOf(t, file); len(all) != 20 {
		t.Errorf("%d lines of a file that is being written", len(all))
	}
}

func TestAnEventThatWouldGrowWithoutEnd(t *testing.T) {
	var w written
	w.event(1, func() {
		w.template("large", func() {
			w.element("Event", always, func() {
				for range 900 {
					w.of(0, stringKind)
				}
			})
		}, words16(strings.Repeat("x", 20_000)))
	})
	if all := linesOf(t, w.whole()); len(all) != 1 || string(filled(t, all[0]).Text) != "event 1, at byte 4608 of the event file, is damaged" {
		t.Errorf("%.200q", all)
	}
}

func FuzzFile(f *testing.F) {
	var w written
	for n := uint64(1); n <= 3; n++ {
		w.sale(n, "kelp-01", "sold")
	}
	f.Add(w.whole()[:fileHead+2500])
	f.Fuzz(func(t *testing.T, file []byte) {
		if len(file) < fileHead+chunkHead {
			return
		}
		file = bytes.Clone(file)
		copy(file[fileHead:], chunkMark)
		b, err := io.ReadAll(NewFileReader(bytes.NewReader(file)))
		if err != nil {
			t.Fatal(err)
		}
		var p Reader
		for line := range bytes.Lines(b) {
			p.Read(line, nil)
		}
	})
}
