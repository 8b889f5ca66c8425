package format

import (
	"encoding/json"
	"strings"
	"testing"

	"oakbarrel/core/record"
)

func TestBodiesOfRequests(t *testing.T) {
	r := record.Record{Priority: record.MakePriority(1, record.Error), App: []byte("pumpd"), Text: []byte("say \"dry\"\n{title}")}
	r.SetData([]byte(`{"id":7}`))
	for body, want := range map[string]string{
		`{"text": "{severity} of {app}: {text}", "host": "{host}"}`: `{"text": "error of pumpd: say \"dry\"\n{title}", "host": ""}`,
		`{"event": {record}, "f": {fields}}`:                        `{"event": ` + string(r.AppendJSON(nil)) + `, "f": {"id":7}}`,
		`{app} says {text}`:                                         `pumpd says say \"dry\"\n{title}`,
	} {
		b, err := ParseBody(body, RecordPlaces)
		if err != nil {
			t.Errorf("%s: %v", body, err)
			continue
		}
		got := b.AppendRecord(nil, &r)
		if string(got) != want || b.IsJSON() && !json.Valid(got) {
			t.Errorf("%s gives %s", body, got)
		}
	}
	for body, why := range map[string]string{`{"text": "{titel}"}`: "did you mean {title}?", `{"text": {title}}`: "no JSON", `{"text": "{text}`: "no JSON", `{"a": "{app}"}`: "no place {app}"} {
		if _, err := ParseBody(body, NoticePlaces); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", body, err)
		}
	}
}
