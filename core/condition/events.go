package condition

import (
	"strings"

	"oakbarrel/core/record"
)

// levels are the words for severities that Windows has for the levels of events, beside ours.
var levels = map[string]record.Severity{"information": record.Info, "verbose": record.Debug}

// ofEvent reads a test of what an event calls otherwise than records do; nil where it is none.
func (p *parser) ofEvent(t token) node {
	if !p.events {
		return nil
	}
	element := Path{{name: "event@32473"}}
	switch strings.ToLower(t.text) {
	case "level":
		return p.severity()
	case "source":
		return p.property(property{which: app})
	case "id":
		return p.property(property{which: field, path: append(element, pathPart{name: "id"})})
	case "channel":
		return p.property(property{which: field, path: append(element, pathPart{name: "channel"})})
	}
	return nil
}
