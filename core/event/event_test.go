package event

import (
	"strings"
	"testing"

	"oakbarrel/core/record"
)

const pumpStopped = `<?xml version="1.0"?>
<Events><Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'>
 <System><Provider Name='pumpd' Guid='{0b8f2c1a-1111-4222-8333-444455556666}' EventSourceName='pumps'/><EventID Qualifiers='16384'>7036</EventID>
 <Version>1</Version><Level>2</Level><Task>3</Task><Opcode>0</Opcode><Keywords>0x8080000000000000</Keywords>
 <TimeCreated SystemTime='2026-11-25T10:15:00.1234567Z'/><EventRecordID>81</EventRecordID><Correlation ActivityID='{aa}' RelatedActivityID='{bb}'/>
 <Execution ProcessID='412' ThreadID='77'/><Channel>Lantern-Pumps/Operational</Channel><Computer>reef-02</Computer><Security UserID='S-1-5-18'/></System>
 <EventData><Data Name='pump'>A &amp; B</Data><Data>stopped</Data><Data Name='pump'>&lt;2&gt;</Data><Binary>0AFF</Binary></EventData>
 <RenderingInfo Culture='en-US'><Message>The pump A &amp; B has stopped.&#13;&#10;Look at it.</Message><Level>Error</Level><Task>Pumping</Task><Keywords><Keyword>Classic</Keyword></Keywords></RenderingInfo>
</Event></Events>`

func filled(t *testing.T, text string) *record.Record {
	t.Helper()
	var p Reader
	e, memory, err := p.Read([]byte(text), nil)
	if err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	r := new(record.Record)
	e.Fill(r, memory)
	return r
}

func TestAnEventBecomesARecord(t *testing.T) {
	r := filled(t, pumpStopped)
	for what, c := range map[string][2]string{
		"app": {string(r.App), "pumpd"}, "host": {string(r.Host), "reef-02"}, "procid": {string(r.ProcID), "412"}, "msgid": {string(r.MsgID), "7036"},
		"severity": {r.Severity().String(), "error"}, "facility": {r.Facility().String(), "daemon"}, "time": {r.Time.String(), "2026-11-25T10:15:00.1234567Z"},
		"text": {string(r.Text), "The pump A & B has stopped.\nLook at it."},
		"fields": {string(r.Data), `{"event@32473":{"channel":"Lantern-Pumps/Operational","id":7036,"level":2,"record":81,"task":3,"opcode":0,"keywords":"0x8080000000000000",` +
			`"version":1,"qualifiers":16384,"guid":"{0b8f2c1a-1111-4222-8333-444455556666}","thread":77,"user":"S-1-5-18","activity":"{aa}","related":"{bb}","level_name":"Error","task_name":"Pumping",` +
			`"message":"The pump A & B has stopped.\nLook at it.","data":{"pump":"A & B","2":"stopped","pump_3":"<2>","Binary":"0AFF"}}}`},
	} {
		if c[0] != c[1] {
			t.Errorf("%s:\n%s, not\n%s", what, c[0], c[1])
		}
	}
}

func TestWhatALevelMeans(t *testing.T) {
	for _, c := range []struct{ level, keywords, want string }{
		{"1", "0x0", "critical"}, {"2", "", "error"}, {"3", "", "warning"}, {"4", "", "info"}, {"5", "", "debug"}, {"0", "", "info"}, {"9", "", "debug"},
		{"0", "0x8010000000000000", "warning"}, {"4", "0x8020000000000000", "notice"}, {"0", "0x8080000000000000", "info"},
	} {
		e := Event{Level: []byte(c.level), Keywords: []byte(c.keywords)}
		if got := e.Severity().String(); got != c.want {
			t.Errorf("level %s with %s: %s, not %s", c.level, c.keywords, got, c.want)
		}
	}
}

func wrapped(system, rest string) string {
	return "<Event><System><Provider Name='ticketd'/><EventID>5</EventID>" + system + "</System>" + rest + "</Event>"
}

// TestWithoutAMessage shows what an event says whose template is not there.
func TestWithoutAMessage(t *testing.T) {
	for rest, want := range map[string]string{
		"": "event 5 of ticketd",
		"<EventData><Data Name='gate'>2</Data><Data Name='why'>it is shut</Data><Data/></EventData>":                                      `gate=2 why="it is shut" 3=""`,
		"<UserData><Sold xmlns='lantern'><n:tickets xmlns:n='x'>12</n:tickets><at gate='4'><till>7</till> open </at></Sold></UserData>":   `tickets=12 gate=4 till=7 at=open`,
		"<EventData><Data Name='a'><![CDATA[<b>]]>&#x263A;</Data><!-- nothing --><Data Name='c'>x<!-- in between -->y</Data></EventData>": `a=<b>☺ c=xy`,
		"<EventData><Data Name='a'>&unknown; &#; & &#99999999999;</Data></EventData>":                                                     `a="&unknown; &#; & &#99999999999;"`,
		"<EventData><Data Name='a>b'>1</Data></EventData><RenderingInfo><Message></Message></RenderingInfo>":                              `a>b=1`,
		"<EventData Name='Sale'><Data Name='n'>1\r\n2\r3</Data></EventData>":                                                              `n="1\n2\n3"`,
	} {
		if got := string(filled(t, wrapped("", rest)).Text); got != want {
			t.Errorf("%s\n%s, not %s", rest, got, want)
		}
	}
	if r := filled(t, wrapped("<Channel>Security</Channel>", "")); r.Facility().String() != "authpriv" {
		t.Errorf("of Security: %s", r.Facility())
	}
}

func TestWhatIsNoEvent(t *testing.T) {
	for _, text := range []string{"", "pump", "<", "<>", "</Event>", "<Event>", "<Event></Event>", "<Other><EventID>1</EventID></Other>", "<Event><System><EventID>5</EventID></System>", "<Event><!-- ", "<Event><![CDATA[", "<Event a='>",
		wrapped("", strings.Repeat("<EventData>", 40)+strings.Repeat("</EventData>", 40))} {
		var p Reader
		if e, _, err := p.Read([]byte(text), nil); err == nil {
			t.Errorf("%q is taken: %+v", text, e)
		}
	}
}

func TestAnEventOfMoreValuesThanOneHas(t *testing.T) {
	r := filled(t, wrapped("", "<EventData>"+strings.Repeat("<Data Name='a'>1</Data>", mostData+1)+"</EventData>"))
	if !r.Cut || strings.Count(string(r.Text), "=1") != mostData {
		t.Errorf("%v: %d values", r.Cut, strings.Count(string(r.Text), "=1"))
	}
	if r := filled(t, wrapped("", "<EventData>"+strings.Repeat("<Data Name='a'>1</Data>", mostData)+"</EventData>")); r.Cut {
		t.Error("all values are there")
	}
}

func TestAnEventIsReadWithoutAllocations(t *testing.T) {
	var p Reader
	var r record.Record
	text, memory := []byte(pumpStopped), make([]byte, 0, 64<<10)
	if n := testing.AllocsPerRun(100, func() {
		e, m, err := p.Read(text, memory[:0])
		if err != nil {
			t.Fatal(err)
		}
		e.Fill(&r, m)
	}); n > 0 {
		t.Errorf("%v allocations", n)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(pumpStopped))
	f.Add([]byte(wrapped("", "<UserData><a b='c'>d<e/></a></UserData>")))
	f.Fuzz(func(t *testing.T, text []byte) {
		var p Reader
		e, memory, err := p.Read(text, nil)
		if err != nil {
			return
		}
		var r record.Record
		e.Fill(&r, memory)
		var tree record.Tree
		if err := tree.ParseJSON(r.Data); err != nil {
			t.Fatalf("%v: %s", err, r.Data)
		}
	})
}
