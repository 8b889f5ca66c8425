package block_test

import (
	"fmt"
	"strings"
	"testing"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// contents is what a filter and the texts themselves tell of records.
type contents struct {
	words block.Words
	texts []byte
}

var properties = map[string]block.Property{"host": block.Host, "app": block.App, "procid": block.ProcID, "msgid": block.MsgID}

func (c contents) HasWord(hash uint64) bool {
	groups := uint64(len(c.words)) / block.GroupSize
	if groups == 0 {
		return true
	}
	at := 1 + block.GroupSize*(hash>>32%groups)
	return block.GroupHasWord(c.words[0], c.words[at:at+block.GroupSize], hash)
}

func (c contents) HasValue(name string, v []byte) bool {
	return c.HasWord(block.ValueHash(properties[name], v))
}
func (c contents) HasText(s *condition.Searcher) bool { return s.In(c.texts) }
func quoted(s string) string                          { return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"` }

func parse(message string) (r record.Record) {
	p := wire.Parser{Default: record.DefaultPriority}
	p.Parse(&r, []byte(message))
	return r
}

func filterOf(records ...record.Record) contents {
	var b block.Builder
	for i := range records {
		b.Add(uint64(i+1), &records[i])
	}
	content, words, err := block.Index(b.Finish(nil))
	if err != nil {
		panic(err)
	}
	texts, err := content.Texts()
	if err != nil {
		panic(err)
	}
	return contents{words, texts}
}

func TestAFilterRulesOutWhatIsNotThere(t *testing.T) {
	c := filterOf(parse(`<165>1 2026-11-25T10:15:00Z Reef-02 pumpd 412 M7 [tank@32473 id="4" note="say \"stall\" \] x"] Pump P07 stalled: flow=0.3 l/min, Größe 12`))
	for where, want := range map[string]bool{
		`text has word "pump"`: true, `text has word PUMP`: true, `text has word p07`: true, `text has word stall`: true /* stands in a field */, `text has word flow`: true, `"größe"`: true,
		`text has word "P07 stalled"`: true, `text has word "stalled: flow"`: true, `text contains "P07 stall"`: true, `text contains "p07"`: false, `"p07 STALL"`: true, `text contains "07 stalled"`: true,
		`text starts with "Pump P0"`: true, `text ends with "ße 12"`: true, `text matches /nothing/`: true, `not "nothing"`: true, `any`: true, `app missing`: true,
		`text has word "stal"`: false, `text has word kelp`: false, `"kelp"`: false, `text contains "x P07 y"`: false, `text is "Pump kelp"`: false, `text starts with "Pump kelp "`: false,
		`app is pumpd`: true, `app is PUMPD`: true, `app is ticketd`: false, `host is reef-02`: true, `host in (kelp-01, tide-gw)`: false, `host in (kelp-01, REEF-02)`: true, `procid is 412`: true, `msgid is M8`: false,
		`app is ""`: true, `field "tank@32473".id is "4"`: true, `field tank is "kelp"`: false, `field tank contains "elp"`: true, `field tank@32473.note is "say \"stall\" ] x"`: true,
		`app is ticketd and any`: false, `app is ticketd or app is pumpd`: true, `app is ticketd or host is kelp-01`: false, `severity is error and "kelp"`: false,
	} {
		k, err := condition.Parse(where, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := k.Possible(c); got != want {
			t.Errorf("%s: possible is %v", where, got)
		}
	}
	nested := filterOf(record.Record{Data: []byte(`{"a":{"text":"line\nnext \u00dcber","n":417}}`)})
	for where, want := range map[string]bool{`field a.text has word next`: true, `field a.text has word ÜBER`: true, `field a.n is "417"`: true, `field a.text has word kelp`: false} {
		if k, err := condition.Parse(where, nil); err != nil || k.Possible(nested) != want {
			t.Errorf("%s: possible is %v, %v", where, !want, err)
		}
	}
	k, _ := condition.Parse("app is ticketd", nil)
	for _, unknown := range []block.Words{nil, {}, make(block.Words, 65), append(block.Words{4}, make([]byte, 64)...), append(block.Words{1}, make([]byte, 72)...)} {
		if !k.Possible(contents{words: unknown}) {
			t.Errorf("a filter of %d bytes that is not known rules something out", len(unknown))
		}
	}
}

func TestAFilterTellsMostWordsApart(t *testing.T) {
	for _, n := range []int{1, 1000, 50_000} {
		var records []record.Record
		for i := range n {
			records = append(records, record.Record{Text: fmt.Appendf(nil, "request r%d", i)})
		}
		c, wrong := filterOf(records...), 0
		for i := range 2000 {
			k, _ := condition.Parse(fmt.Sprintf("text has word s%d", i), nil)
			if k.Possible(filtered{c}) {
				wrong++
			}
		}
		if wrong > 20 || len(c.words) > 1+2*n+64 {
			t.Errorf("%d words: %d of 2000 are not ruled out by %d bytes", n, wrong, len(c.words))
		}
	}
}

// filtered has a filter alone.
type filtered struct{ contents }

func (filtered) HasText(*condition.Searcher) bool { return true }

// What a record meets must never be ruled out.
func FuzzFilter(f *testing.F) {
	f.Add(`<13>1 - h a p m [x@1 y="z"] Pump P07`, "p07")
	f.Add("<13>Straße \u017f \xff\u212a1", "STRASSE")
	f.Fuzz(func(t *testing.T, message, value string) {
		r := parse(message)
		c := filterOf(r)
		for _, test := range []string{
			"text has word %s", "text contains %s", "text contains %s ignoring case", "text starts with %s", "text ends with %s ignoring case", "text is %s ignoring case", "%s", "host is %s", "app is %s", "procid is %s ignoring case",
			`field "x@1".y is %s`, `field "x@1".y has word %s`,
		} {
			k, err := condition.Parse(fmt.Sprintf(test, quoted(value)), nil)
			if err == nil && k.Match(&r) && !k.Possible(c) {
				t.Errorf("%s holds for %q, and is ruled out", k.Text(), message)
			}
		}
		k, err := condition.Parse("shape is "+quoted(string(r.Text)), nil)
		if err == nil && k.Match(&r) && !k.Possible(c) {
			t.Errorf("%s holds for %q, and is ruled out", k.Text(), message)
		}
	})
}
