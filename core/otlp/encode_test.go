package otlp

import (
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// some are records of two programs, with all that a record can have.
func some() []*record.Record {
	at := record.Stamp{Sec: 1_795_000_000, Nsec: 123_456_789, Form: record.Zulu}
	received := record.Stamp{Sec: 1_795_000_001, Form: record.Zulu}
	pump := &record.Record{Time: at, Received: received, Priority: record.MakePriority(19, record.Warning), Stream: record.Stderr,
		Host: []byte("reef-02"), App: []byte("pumpd"), ProcID: []byte("412"), MsgID: []byte("FLOW"), Text: []byte("low flow \xff")}
	pump.SetData([]byte(`[tank@32473 ph="8.1" id="4"]`))
	ticket := &record.Record{Time: at, Received: received, Priority: record.MakePriority(3, record.Emergency), Host: []byte("kelp-01"), App: []byte("ticketd"), Text: []byte("sold")}
	ticket.SetData([]byte(`{"trace_id":"000102030405060708090a0b0c0d0e0f","span_id":"0001020304050607","n":3,"price":12.5,"paid":true,"seats":[4,"b"],"who":{"age":null}}`))
	return []*record.Record{pump, ticket, pump}
}

// What is written is what the official types, with which Decode reads, find.
func TestEncodedRecordsAreReadAgain(t *testing.T) {
	var e Encoder
	for range 2 { // the memory is used again
		e.Reset()
		for _, r := range some() {
			e.Add(r)
		}
	}
	var got []string
	refused, why, err := Decode(e.Append(nil), false, Settings{}, func(r *record.Record) { got = append(got, string(r.AppendJSON(nil))) })
	if refused > 0 || err != nil {
		t.Fatal(refused, why, err)
	}
	pump := `"time":"2026-11-18T11:06:40.123456789Z","facility":"kern","severity":"warning","host":"reef-02","app":"pumpd","text":"low flow \ufffd","fields":{"syslog.facility":"local3","syslog.procid":"412","syslog.msgid":"FLOW","log.iostream":"stderr","tank@32473":{"ph":"8.1","id":"4"}}`
	ticket := `"severity":"emergency","host":"kelp-01","app":"ticketd","text":"sold","fields":{"syslog.facility":"daemon","n":3,"price":12.5,"paid":true,"seats":[4,"b"],"who":{"age":null},"trace_id":"000102030405060708090a0b0c0d0e0f","span_id":"0001020304050607"}`
	for i, want := range []string{pump, pump, ticket} { // by their resources
		plain := strings.ReplaceAll(got[i], "\ufffd", `\ufffd`)
		if i < len(got) && !strings.Contains(plain, want) {
			t.Errorf("record %d is\n%s, want\n%s", i, plain, want)
		}
	}
}

func TestEncodingAllocatesNothing(t *testing.T) {
	var e Encoder
	all := some()
	var dst []byte
	run := func() {
		e.Reset()
		for _, r := range all[:1] {
			e.Add(r)
		}
		dst = e.Append(dst[:0])
	}
	run()
	if n := testing.AllocsPerRun(100, run); n > 1 { // the text that is not UTF-8
		t.Errorf("%v allocations", n)
	}
}
