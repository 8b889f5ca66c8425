package format

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
)

// Body is the body of a request with places, such as {"text": "{title}"}. What comes into a
// place is escaped as in a JSON string, so that nothing that a sender says leaves it. It
// may be used by several goroutines at a time.
type Body struct {
	text  string
	parts []bodyPart
}

// bodyPart is a place and the text before it; the last part has no place.
type bodyPart struct{ text, place string }

// RecordPlaces are the places of a body for each record, NoticePlaces of one for a notice,
// AlertPlaces of one for what an alert tells. {fields} and {record} are JSON as they stand.
var (
	RecordPlaces = []string{"time", "received", "facility", "severity", "host", "agent", "app", "procid", "msgid", "text", "fields", "record"}
	NoticePlaces = []string{"title", "text", "host", "outlet", "records", "severity"}
	AlertPlaces  = []string{"title", "text", "alert", "note", "link"}
)

var bodyPlace = regexp.MustCompile(`\{([a-z_]+)\}`)

// ParseBody reads a body with some of the places. The error, if any, is an *[Error].
func ParseBody(s string, places []string) (*Body, error) {
	b := &Body{text: s}
	at := 0
	for _, found := range bodyPlace.FindAllStringSubmatchIndex(s, -1) {
		name := s[found[2]:found[3]]
		if !slices.Contains(places, name) {
			mend := "known are {" + strings.Join(places, "}, {") + "}"
			if word, ok := nearest.Word(name, places); ok {
				mend = fmt.Sprintf("did you mean {%s}?", word)
			}
			return nil, &Error{found[0], fmt.Sprintf("a body has no place {%s}", name), mend}
		}
		b.parts = append(b.parts, bodyPart{s[at:found[0]], name})
		at = found[1]
	}
	b.parts = append(b.parts, bodyPart{s[at:], ""})
	if b.IsJSON() && !json.Valid(b.Append(nil, func(place string) []byte {
		switch {
		case isRaw(place):
			return []byte("{}")
		case place == "records":
			return []byte("1")
		}
		return []byte("x")
	})) {
		return nil, &Error{0, "the body is no JSON once its places are filled in", `put the places of texts into quotes: {"text": "{text}"}`}
	}
	return b, nil
}

// String returns the body as the plan has it.
func (b *Body) String() string { return b.text }

// IsJSON tells whether the body is meant as JSON: it begins with a bracket.
func (b *Body) IsJSON() bool {
	text := strings.TrimSpace(b.parts[0].text)
	return strings.HasPrefix(text, "{") || strings.HasPrefix(text, "[")
}

func isRaw(place string) bool { return place == "fields" || place == "record" }

// Append writes the body with what value returns for its places.
func (b *Body) Append(dst []byte, value func(place string) []byte) []byte {
	for _, p := range b.parts {
		dst = append(dst, p.text...)
		switch {
		case p.place == "":
		case isRaw(p.place):
			dst = append(dst, value(p.place)...)
		default:
			start := len(dst)
			dst = record.AppendJSONString(dst, value(p.place))
			dst = append(dst[:start], dst[start+1:len(dst)-1]...) // without its quotes
		}
	}
	return dst
}

// AppendRecord writes the body for a record. What the record lacks is empty.
func (b *Body) AppendRecord(dst []byte, r *record.Record) []byte {
	return b.Append(dst, func(place string) []byte {
		switch place {
		case "record":
			return r.AppendJSON(nil)
		case "fields":
			if !r.HasFields() {
				return []byte("{}")
			}
			return r.Fields().Root().AppendJSON(nil)
		case "text":
			return r.Text
		}
		p, err := findProperty(place, 0)
		if err != nil {
			return nil
		}
		if v := p.append(nil, r); len(v) != 1 || v[0] != missing {
			return v
		}
		return nil
	})
}
