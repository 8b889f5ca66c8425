package bench

import (
	"fmt"
	"testing"
	"time"

	"oakbarrel/core/decode"
	"oakbarrel/core/record"
)

// braces finds the braces, the quotes and the backslashes of a text.
func braces(found []int32, text []byte) []int32 {
	for i, c := range text {
		switch c {
		case '{', '}', '"', '\\':
			found = append(found, int32(i))
		}
	}
	return found
}

// parts finds the spaces, the quotes, the brackets and the backslashes of a text.
func parts(found []int32, text []byte) []int32 {
	for i, c := range text {
		switch c {
		case ' ', '"', '[', ']', '\\':
			found = append(found, int32(i))
		}
	}
	return found
}

// pairs finds the spaces, the signs of equality and the quotes of a text.
func pairs(found []int32, text []byte) []int32 {
	for i, c := range text {
		switch c {
		case ' ', '=', '"', '\\':
			found = append(found, int32(i))
		}
	}
	return found
}

// marks finds the signs that part what stands in XML.
func marks(found []int32, text []byte) []int32 {
	for i, c := range text {
		switch c {
		case '<', '>', '\'', '&':
			found = append(found, int32(i))
		}
	}
	return found
}

// BenchmarkDecode compares taking texts of 300 to 900 bytes apart with a bare loop that
// finds the signs that part them.
func BenchmarkDecode(b *testing.B) {
	for _, form := range []struct {
		form decode.Form
		bare func([]int32, []byte) []int32
		line func(i int) string
	}{
		{decode.JSON, braces, func(i int) string {
			return fmt.Sprintf(`{"time":"2026-11-25T10:15:%02d.%03dZ","level":"warn","msg":"the tank of the north hall is low, and pump P%d was asked to fill it","tank":%d,"ph":8.%d,"host":"reef-02","request":{"id":"c0ffee%06d","user":"noor","path":"/tanks/%d/fill"},"took_ms":%d,"tags":["pumps","north","night"]}`, i%60, i%1000, i%9, i%40, i%10, i, i%40, i%500)
		}},
		{decode.Access, parts, func(i int) string {
			return fmt.Sprintf(`10.20.%d.%d - noor [25/Nov/2026:10:15:%02d +0000] "GET /tanks/%d/history?from=2026-11-24&until=2026-11-25&step=60 HTTP/1.1" 200 %d "https://console.lantern.example/tanks/%d?tab=history" "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/130.0 Safari/537.36" 0.%03d`, i%256, i%199, i%60, i%40, 500+i%9000, i%40, i%1000)
		}},
		{decode.KeyValue, pairs, func(i int) string {
			return fmt.Sprintf(`time=2026-11-25T10:15:%02d.%03dZ level=warn msg="the tank of the north hall is low, and pump P%d was asked to fill it" tank=%d ph=8.%d host=reef-02 request=c0ffee%06d user=noor path=/tanks/%d/fill took_ms=%d hall=north shift=night`, i%60, i%1000, i%9, i%40, i%10, i, i%40, i%500)
		}},
		{decode.Events, marks, func(i int) string {
			return fmt.Sprintf(`<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='pumpd' Guid='{0b8f2c1a-1111-4222-8333-444455556666}'/><EventID>70</EventID><Version>0</Version><Level>3</Level><Task>0</Task><Opcode>0</Opcode><Keywords>0x8080000000000000</Keywords><TimeCreated SystemTime='2026-11-25T10:15:%02d.%07dZ'/><EventRecordID>%d</EventRecordID><Correlation/><Execution ProcessID='%d' ThreadID='77'/><Channel>Lantern-Pumps/Operational</Channel><Computer>reef-02</Computer><Security UserID='S-1-5-18'/></System><EventData><Data Name='tank'>%d</Data><Data Name='hall'>north</Data></EventData><RenderingInfo Culture='en-US'><Message>The tank %d of the north hall is low, and a pump was asked to fill it.</Message><Level>Warning</Level></RenderingInfo></Event>`, i%60, i, i+1, 400+i%100, i%40, i%40)
		}},
	} {
		b.Run(string(form.form), func(b *testing.B) {
			var texts [][]byte
			for i := range 50_000 {
				texts = append(texts, []byte(form.line(i)))
			}
			steps, found := []decode.Step{{Form: form.form}}, make([]int32, 0, 1000)
			d, r := decode.Decoder{Reading: &decode.Reading{Zone: time.UTC}}, record.Record{}
			now := record.StampOf(time.Now())
			ours := func() {
				for _, text := range texts {
					d.Memory = d.Memory[:0]
					r.Reset()
					r.Received, r.Time, r.Text = now, now, text
					if !d.Decode(&r, steps) {
						b.Fatalf("%s is not read", text)
					}
				}
			}
			ours()
			allocations := testing.AllocsPerRun(1, ours)
			for b.Loop() {
				bare, our, ratio := pair(rounds, func() time.Duration {
					start := time.Now()
					for _, text := range texts {
						sink += len(form.bare(found[:0], text))
					}
					return time.Since(start)
				}, func() time.Duration {
					start := time.Now()
					ours()
					return time.Since(start)
				})
				report(b, len(texts), bare, our, ratio)
				b.ReportMetric(allocations/float64(len(texts)), "allocs/msg")
			}
		})
	}
}
