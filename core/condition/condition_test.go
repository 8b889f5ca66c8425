package condition

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// the record that the conditions below are judged on
func pumpRecord() *record.Record {
	return &record.Record{
		Priority: record.MakePriority(record.Local0+3, record.Warning), Intake: "wire", Stream: record.Stderr,
		Host: []byte("Reef-02"), App: []byte("pumpd"), ProcID: []byte("412"), MsgID: []byte{}, Text: []byte("Pump P7: Out of Memory, größe 5µ (ERROR) at 10.0.0.1"),
		Data: []byte(`[tank@32473 ph="8.1" id="4" id="12"][a.b c="x"][a c.d="y" b="z"][note]`),
		Peer: &record.Peer{Addr: netip.MustParseAddrPort("[::ffff:10.20.0.9]:514")},
	}
}

func withoutNames(r *record.Record) *record.Record {
	return &record.Record{Priority: r.Priority, Stream: r.Stream, Text: r.Text, Data: r.Data}
}

func TestAConditionTellsWhetherItAsksForNames(t *testing.T) {
	for condition, want := range map[string]bool{
		"any": false, "severity is error and text has word x": false, `not (field a.b > 4 or "x")`: false, "text matches /x/ and stream is stderr and facility is kern": false, "field host exists": false,
		"host is x": true, "any or procid missing": true, "not msgid matches /x/": true, "app contains x": true, "intake is x and any": true, "peer within 10.0.0.0/8": true,
	} {
		if c, err := Parse(condition, nil); err != nil || c.AsksNames() != want {
			t.Errorf("%s: %v, %v", condition, !want, err)
		}
	}
}

func TestMatch(t *testing.T) {
	r := pumpRecord()
	for _, c := range []struct {
		condition string
		want      bool
	}{
		{"any", true}, {"ANY", true}, {"not any", false}, {"not not any", true}, {"(any)", true},
		// severity: at least means as serious or worse
		{"severity at least warning", true}, {"severity at least error", false}, {"severity at least info", true}, {"severity at most warning", true},
		{"severity at most error", true}, {"severity at most notice", false}, {"severity is warning", true}, {"severity is WARN", true}, {"severity is not warning", false},
		{"severity in (error, warning)", true}, {"severity not in (error, warning)", false}, {"severity between info and error", true}, {"severity between error and info", true},
		{"severity between critical and error", false}, {"severity not between info and error", false}, {"severity not at least error", true}, {"Severity At Least Debug", true},
		{"facility is local3", true}, {"facility is kern", false}, {"facility in (auth, LOCAL3)", true}, {"facility not in (auth, local3)", false}, {"facility is not kern", true},
		{"intake is wire", true}, {"intake is Wire", false}, {"intake in (local, wire)", true}, {"stream is stderr", true}, {"stream is not stderr", false},
		{"app is pumpd", true}, {"app is Pumpd", false}, {"app is Pumpd ignoring case", true}, {`app is "pumpd"`, true}, {"app in (ticketd, pumpd)", true}, {"app not in (ticketd, pumpd)", false},
		{"app in (TICKETD, PUMPD) ignoring case", true}, {"host is reef-02", true}, {"host is REEF-02", true}, {"host starts with reef", true}, {"host matches /^REEF/", true},
		{"app starts with pump", true}, {"app not starts with pump", false}, {"app ends with d", true}, {"app ends with PD ignoring case", true}, {"app contains mp", true}, {"procid is 412", true},
		{"text contains memory", false}, {"text contains Memory", true}, {"text contains MEMORY ignoring case", true}, {`"out of memory"`, true}, {`"in memory"`, false},
		{`text contains GRÖSSE ignoring case`, false}, {`text contains GRÖßE ignoring case`, true}, {`text ends with "10.0.0.1"`, true}, {`text contains ""`, true},
		{"text has word error", true}, {"text has word err", false}, {`text has word "of memory"`, true}, {"text has word P7", true}, {"text has word P", false}, {"text has word 5", false}, {"text has word größe", true},
		{"text not has word error", false}, {"text matches /P[0-9]:/", true}, {"text matches /out of/", false}, {"text matches /out of/i", true}, {"text matches /out of/ ignoring case", true}, {`text matches /^Pump.*1$/`, true},
		// what is missing compares as the empty text
		{"msgid exists", true}, {"msgid missing", false}, {`msgid is ""`, true}, {"field x missing", true}, {"field x exists", false}, {"field x is y", false}, {"field x is not y", true}, {`field x is ""`, true},
		{`field x matches /^$/`, true}, {"field x > 0", false}, {"not field x > 0", true}, {"field x not > 0", true},
		// fields
		{"field tank@32473.ph is 8.1", true}, {"field tank@32473.ph > 8", true}, {"field tank@32473.ph >= 8.1", true}, {"field tank@32473.ph < 8.1", false}, {"field tank@32473.ph <= 8.1e0", true},
		{"field tank@32473.ph between 9 and 8", true}, {"field tank@32473.ph not between 9 and 8", false}, {"field tank@32473.id is 12", true}, {"field tank@32473.id is 4", true}, {"field tank@32473.id is not 4", false},
		{"field tank@32473.id > 10", true}, {"field tank@32473.id > 12", false}, {"field tank@32473 exists", true}, {"field tank@32473 is x", false}, {"field tank@32473 contains x", false}, {"field note exists", true}, {"field note missing", false},
		{"field a.b.c is x", true}, {`field "a.b".c is x`, true}, {"field a.c.d is y", true}, {`field a."c.d" is y`, true}, {`field a.c."d" exists`, false}, {`field "a".b is z`, true}, {"field a.b is z", false}, {"field a.b exists", true},
		{"field tank@32473.ph.x exists", false}, {"field TANK@32473.ph exists", false}, {"FIELD tank@32473.ph EXISTS", true},
		{"peer is 10.20.0.9", true}, {"peer within 10.20.0.0/16", true}, {"peer within 10.30.0.0/16", false}, {"peer is not 10.20.0.9", false}, {"peer within ::/0", false}, {"peer is ::ffff:10.20.0.9", true},
		// and binds more than or
		{"app is x and app is y or any", true}, {"app is x and (app is y or any)", false}, {"any or app is x and app is y", true}, {"not app is x and app is x", false}, {"not (app is x and app is y)", true},
		{"app is salinity-probe or text contains P7 and severity at most warning", true},
	} {
		cond, err := Parse(c.condition, nil)
		if err != nil {
			t.Errorf("%s: %v", c.condition, err)
			continue
		}
		if got := cond.Match(r); got != c.want {
			t.Errorf("%s: %v, want %v", c.condition, got, c.want)
		}
		if got, because := cond.Explain(r); got != c.want || because == "" {
			t.Errorf("%s: explained as %v because %q, want %v", c.condition, got, because, c.want)
		}
		if v := cond.On(r.Priority); v == Never && c.want || v == Always && !c.want {
			t.Errorf("%s: verdict %v for the priority, but the record gives %v", c.condition, v, c.want)
		}
		again, err := Parse(cond.String(), nil)
		if err != nil || again.String() != cond.String() || again.Match(r) != c.want {
			t.Errorf("%s: its normal form %s is read as %v, %v", c.condition, cond, again, err)
		}
		if n := testing.AllocsPerRun(5, func() { cond.Match(r) }); n != 0 {
			t.Errorf("%s: %v allocations", c.condition, n)
		}
		if bare := withoutNames(r); !cond.AsksNames() && cond.Match(bare) != c.want {
			t.Errorf("%s: is another without names, for which it does not ask", c.condition)
		}
	}
}

func TestErrorsTellWhereAndHow(t *testing.T) {
	for _, c := range []struct{ condition, at, message string }{
		{"", "", "the condition is empty"},
		{"   ", "", "the condition is empty"},
		{"severity at least eror", "eror", "'eror' is not a severity; did you mean error?"},
		{"severity at leats error", "leats", "after at, least or most is expected, not 'leats'; write: at least …"},
		{"severity >= error", ">=", "severities have no >=, because their numbers run the other way; write: at least"},
		{"severity is 3", "3", "a severity is written as a word, because the numbers run the other way; 3 is error"},
		{"severity error", "error", "after severity an operator is expected, not 'error'; write one of: is, in, at least, at most, between"},
		{"severity is error or above", "above", "'above' is no test; write: severity at least …"},
		{"severity contains error", "contains", "severity cannot be tested by 'contains'"},
		{"severty is error", "severty", "'severty' is not a property of a record; did you mean severity?"},
		{"facility is local9", "local9", "'local9' is not a facility; did you mean local"},
		{"facility exists", "exists", "facility cannot be tested by 'exists'; write one of: is, in"},
		{"app = pumpd", "=", "there is no =; write: is"},
		{"app == pumpd", "==", "there is no ==; write: is"},
		{"app is 'pumpd'", "'pumpd'", "a string stands in double quotes, not in single ones"},
		{"app is pump one", "one", `'one' follows a whole test; put a value of several words in double quotes: "pump one"`},
		{"app is pumpd severity is error", "severity", "'severity' follows a whole test; join tests with and, or"},
		{"app is text", "text", `'text' is a word of the language; as a value it needs double quotes: "text"`},
		{"app is missing", "missing", "is may not stand before 'missing'; write: app missing"},
		{"app is not in (a)", "in (", "is may not stand before in; write: in (…), or not in (…)"},
		{"app in pumpd", "pumpd", "in needs parentheses"},
		{"app in ()", ")", "the list is empty; in needs at least one value"},
		{"app in (a b)", "b)", "a comma or a ) is expected, not 'b'"},
		{"app in (a, b", "(a", "this ( is not closed"},
		{"(app is a", "(app", "this ( is not closed"},
		{"app is a)", ")", "this ) closes nothing"},
		{`app is "a`, `"a`, "the string has no end"},
		{`app is "a\n"`, `\n`, `in a string only \" and \\ are escapes`},
		{"app is", "", "a value is expected, not the end"},
		{"app", "", "after app a test is expected, but the condition ends"},
		{"app is a and", "", "a test is expected, but the condition ends"},
		{"or app is a", "or", "there is no test before 'or'"},
		{"pumpd", "pumpd", "'pumpd' is not a property of a record; to look for a text, put it in double quotes"},
		{"error", "error", "'error' is a severity, not a test; write: severity at least error"},
		{"auth", "auth", "'auth' is a facility, not a test; write: facility is auth"},
		{"text matches x", "x", "a regular expression is expected, not 'x'"},
		{"text matches /x", "/x", "the regular expression has no end"},
		{"text matches /(/", "/(", "the regular expression cannot be read: missing closing )"},
		{"text matches /x/g", "g", `"g" is no flag of a regular expression; the one flag is i`},
		{"text matches /" + strings.Repeat("x", 1001) + "/", "/x", "the regular expression is too long"},
		{"text > 5", ">", "text has no >; only a field is compared as a number"},
		{"field x > many", "many", "a number is expected, not 'many'"},
		{"field x between 1, 2", ", 2", "between needs two ends"},
		{"field a..b exists", ".b", "a part of the field's path is empty"},
		{"field", "", "the name of a field is expected, not the end"},
		{"text has word \"\"", `""`, "the word is empty"},
		{"peer is reef-02", "reef-02", "'reef-02' is not an address"},
		{"peer within 10.20.0.0", "10.", "'10.20.0.0' is not a network"},
		{"stream is stdin", "stdin", "'stdin' is not a stream"},
		{"condition urgent", "urgent", "there is no condition 'urgent' here"},
		{"condition is", "is", "the name of a condition is expected, not 'is'"},
		{"app is a && any", "&&", "there is no &&; write: and"},
		{"app is a ; any", ";", "is not part of the language"},
		{"app ignoring case", "ignoring", "after app an operator is expected, not 'ignoring'"},
		{"app is a ignoring", "", "after ignoring, case is expected, not the end"},
		{strings.Repeat("not ", 200) + "any", "", "the condition is nested too deep"},
	} {
		_, err := Parse(c.condition, nil)
		if err == nil {
			t.Errorf("%.80s: no error", c.condition)
			continue
		}
		e := err.(*Error)
		if !strings.HasPrefix(e.Error(), c.message) && !strings.Contains(e.Error(), c.message) {
			t.Errorf("%.80s: %q, want %q", c.condition, e.Error(), c.message)
		}
		if e.Mend == "" {
			t.Errorf("%.80s: no way out", c.condition)
		}
		if c.at != "" && !strings.HasPrefix(c.condition[e.Offset:], c.at) {
			t.Errorf("%.80s: reported at %q, want %q", c.condition, c.condition[e.Offset:], c.at)
		}
		if c.at == "" && len(c.condition) < 100 && e.Offset < len(strings.TrimRight(c.condition, " ")) {
			t.Errorf("%.80s: reported at %d, want the end", c.condition, e.Offset)
		}
	}
}

// names is a plan's conditions.
type names map[string]*Condition

func (n names) Condition(name string) (*Condition, *Error) {
	if c, ok := n[name]; ok {
		return c, nil
	}
	return nil, &Error{What: "no condition " + name, Mend: "write one"}
}

func TestNamedConditions(t *testing.T) {
	urgent, _ := Parse("severity at least error or app is pumpd", nil)
	known := names{"urgent": urgent}
	c, err := Parse("condition urgent and text has word error", known)
	if err != nil {
		t.Fatal(err)
	}
	matched, because := c.Explain(pumpRecord())
	want := `condition urgent, app is "pumpd"; text has word "error": text is "Pump P7: Out of Memory, größe 5µ (ERROR) at 10.0.0.1"`
	if !matched || because != want {
		t.Errorf("%v because %s\nwant %s", matched, because, want)
	}
	if _, err := Parse("condition urgnt", known); err == nil || err.(*Error).Offset != len("condition ") {
		t.Errorf("an unknown name gives %v", err)
	}
}

func TestExplainNamesWhatDecided(t *testing.T) {
	r := pumpRecord()
	r.Text = []byte("bad\x1b[2J\u202e" + strings.Repeat("é", 200))
	for condition, want := range map[string]string{
		"app is x and severity at least error":     `app is "x": app is "pumpd"`,
		"app is pumpd and severity at most notice": "severity at most notice: severity is warning",
		"app is x or severity at least info":       "severity at least info: severity is warning",
		"app is x or app is y":                     `app is "x": app is "pumpd"; app is "y": app is "pumpd"`,
		"not app is x":                             `app is "x": app is "pumpd"`,
		"field tank@32473.id is 5":                 `field tank@32473.id is "5": it is ["4","12"]`,
		"field no.such exists":                     "field no.such exists: it is missing",
		"peer within 10.0.0.0/8":                   "peer within 10.0.0.0/8: peer is [::ffff:10.20.0.9]:514",
		"text contains zzz":                        `text contains "zzz": text is "bad\u001b[2J\u202e` + strings.Repeat("é", 62) + `…"`,
	} {
		c, err := Parse(condition, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, got := c.Explain(r); got != want {
			t.Errorf("%s\n got %s\nwant %s", condition, got, want)
		}
	}
}

func TestContradictions(t *testing.T) {
	for condition, want := range map[string]bool{
		"any": false, "not any": true, "severity is error and severity is warning": true, "severity at least error and severity at most critical": false,
		"severity at least critical and severity at most error": true, "facility is kern and facility is user": true, "app is a and app is b": true, "app is a and app in (a, b)": false,
		"app is a and not app is a": true, "app in (a, b) and app is not a and app is not b": true, "app is pumpd and app starts with tick": true, "app is pumpd and app matches /^p/": false,
		"app is a and app is b or any": false, "(app is a and app is b) or (app is c and app is d)": true, "app is a and host is b": false, "field x is a and field x is b": false,
		"host is A and host is a": false, "app is A ignoring case and app is a": false,
	} {
		c, err := Parse(condition, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := c.Contradicts(); got != want {
			t.Errorf("%s: %v, want %v", condition, got, want)
		}
	}
}

func TestImplies(t *testing.T) {
	for _, c := range []struct {
		narrow, wide string
		want         bool
	}{
		{"app is a", "app is a", true}, {"app is a and severity is error", "app is a", true}, {"app is a", "any", true}, {"app is a", "app is a and severity is error", false},
		{"app is a", "app is b", false}, {"APP IS a", `app is "a"`, true}, {"any", "app is a", false},
	} {
		narrow, _ := Parse(c.narrow, nil)
		wide, _ := Parse(c.wide, nil)
		if got := narrow.Implies(wide); got != c.want {
			t.Errorf("%s implies %s: %v", c.narrow, c.wide, got)
		}
	}
}

func TestApps(t *testing.T) {
	for condition, want := range map[string]string{
		"app is a": "[a] true", "app in (a, b) and severity is error": "[a b] true", "severity is error and (app is a)": "[a] true", "app is a or any": "[] false",
		"not app is a": "[] false", "app is not a": "[] false", "app is A ignoring case": "[] false", "app starts with a": "[] false", "host is a": "[] false",
	} {
		c, _ := Parse(condition, nil)
		apps, ok := c.Apps()
		if got := fmt.Sprint(apps, ok); got != want {
			t.Errorf("%s: %s, want %s", condition, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"any", `app in (a, "b c") ignoring case and not (severity between info and error or field "a.b".c >= -5.5e3)`, `text matches /a\/b/i or "x\"\\"`, "peer within fe80::/10 and stream is stdout"} {
		f.Add(s)
	}
	r := pumpRecord()
	f.Fuzz(func(t *testing.T, s string) {
		c, err := Parse(s, nil)
		if err != nil {
			if e := err.(*Error); e.Offset < 0 || e.Offset > len(s) || e.What == "" || e.Mend == "" {
				t.Errorf("%q: %+v", s, e)
			}
			return
		}
		matched, _ := c.Explain(r)
		again, err := Parse(c.String(), nil)
		if err != nil || again.String() != c.String() || again.Match(r) != c.Match(r) || matched != c.Match(r) {
			t.Errorf("%q has the normal form %q, which is read as %v, %v", s, c, again, err)
		}
		if c.Contradicts() && c.Match(r) {
			t.Errorf("%q is said to hold for nothing, but it holds", s)
		}
	})
}
