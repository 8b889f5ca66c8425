// Package notice puts records together for a person: those that are alike but
// for their numbers become one line, the worst first. It does no input or output.
//
// Its central type is [Gatherer].
package notice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/record"
)

const (
	mostGroups = 200 // that are told apart; records of others are counted
	mostShown  = 20  // groups in the text of a notice
	mostText   = 300 // bytes of a record's text
)

// Group is records that are alike.
type Group struct {
	Severity record.Severity `json:"-"`
	Word     string          `json:"severity"`
	Host     string          `json:"host"`
	App      string          `json:"app"`
	Text     string          `json:"text"` // of the first, made harmless and clipped
	Count    int64           `json:"count"`
	First    time.Time       `json:"first"`
	Last     time.Time       `json:"last"`
}

// Gatherer gathers records. The zero Gatherer is empty; it is for one goroutine.
type Gatherer struct {
	groups  map[string]*Group
	order   []*Group
	records int64
	others  int64 // records that found no group
	key     []byte
}

// Reset empties the gatherer.
func (g *Gatherer) Reset() { *g = Gatherer{} }

// Records returns how many were added.
func (g *Gatherer) Records() int64 { return g.records }

// Add adds a record, and keeps nothing of it.
func (g *Gatherer) Add(r *record.Record) {
	g.records++
	g.key = appendKey(g.key[:0], r)
	group := g.groups[string(g.key)]
	if group == nil {
		if len(g.order) == mostGroups {
			g.others++
			return
		}
		group = &Group{Severity: r.Severity(), Word: r.Severity().String(), Host: plain(r.Host), App: plain(r.App), Text: plain(r.Text), First: r.Time.Time()}
		if g.groups == nil {
			g.groups = map[string]*Group{}
		}
		g.groups[string(g.key)] = group
		g.order = append(g.order, group)
	}
	group.Count++
	group.Last = r.Time.Time()
}

// plain makes what a sender wrote harmless, and clips it.
func plain(v []byte) string {
	text := string(record.AppendVisible(nil, v))
	if len(text) > mostText {
		text = strings.ToValidUTF8(text[:mostText], "") + "…"
	}
	return text
}

// appendKey writes what records that are alike have in common: numbers, also
// those in hexadecimal, do not count.
func appendKey(dst []byte, r *record.Record) []byte {
	dst = append(append(append(append(append(dst, byte(r.Severity())), r.Host...), 0), r.App...), 0)
	text := r.Text[:min(len(r.Text), 2*mostText)]
	for i := 0; i < len(text); {
		end, digit := i, false
		for end < len(text) && isWord(text[end]) {
			digit = digit || text[end]-'0' <= 9
			end++
		}
		switch {
		case end == i:
			dst = append(dst, text[i])
			end++
		case digit:
			dst = append(dst, '#')
		default:
			dst = append(dst, text[i:end]...)
		}
		i = end
	}
	return dst
}

func isWord(c byte) bool { return c-'0' <= 9 || c|0x20-'a' < 26 || c == '_' || c >= 0x80 }

// Groups returns what was gathered, the worst first, then the most frequent.
func (g *Gatherer) Groups() []Group {
	sorted := slices.Clone(g.order)
	slices.SortStableFunc(sorted, func(a, b *Group) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity), cmp.Compare(b.Count, a.Count))
	})
	all := []Group{}
	for _, group := range sorted {
		all = append(all, *group)
	}
	return all
}

// Title tells in one line what was gathered on a host.
func (g *Gatherer) Title(host string) string {
	groups := g.Groups()
	if len(groups) == 0 {
		return "nothing on " + plain([]byte(host))
	}
	records := "a record"
	if g.records > 1 {
		records = fmt.Sprintf("%d records", g.records)
	}
	return fmt.Sprintf("%s on %s, the worst is %s", records, plain([]byte(host)), groups[0].Word)
}

// Text tells what was gathered, as lines of plain text. Times are in zone.
func (g *Gatherer) Text(zone *time.Location) string {
	var b strings.Builder
	groups := g.Groups()
	rest := g.others
	for i, group := range groups {
		if i >= mostShown {
			rest += group.Count
			continue
		}
		fmt.Fprintf(&b, "%s  %s  %s %s\n", group.First.In(zone).Format("2006-01-02 15:04:05 -07:00"), group.Word, orDash(group.Host), orDash(group.App))
		fmt.Fprintf(&b, "    %s\n", group.Text)
		if group.Count > 1 {
			fmt.Fprintf(&b, "    and %d more like it, the last at %s\n", group.Count-1, group.Last.In(zone).Format("15:04:05"))
		}
	}
	if rest > 0 {
		fmt.Fprintf(&b, "and %d records of other kinds\n", rest)
	}
	return b.String()
}

func orDash(s string) string { return cmp.Or(s, "-") }
