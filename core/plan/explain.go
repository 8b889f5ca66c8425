package plan

import (
	"bytes"
	"encoding/json"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// Explanation is what a plan does with a record, for programs.
type Explanation struct {
	Record    json.RawMessage `json:"record"`  // as it came
	Decoded   []Tried         `json:"decoded"` // the forms that the intake has tried its text as
	Rules     []Judgement     `json:"rules"`
	Otherwise bool            `json:"otherwise"` // no rule sent or dropped the record
	DroppedBy *string         `json:"dropped_by"`
	GoesTo    []string        `json:"goes_to"`
	Becomes   json.RawMessage `json:"becomes,omitempty"` // the record, where rules change it
}

// Judgement is what one rule says of a record.
type Judgement struct {
	Name    string   `json:"name"`
	Matched bool     `json:"matched"`
	Reached bool     `json:"reached"`
	Because string   `json:"because"`
	Changes []string `json:"changes"` // what the rule changes of the record
}

// Explain judges a record by every rule, and changes it as the rules do.
func (p *Plan) Explain(r *record.Record) (Explanation, route.Way) {
	came := r.AppendJSON(nil)
	way := p.Table.Explain(r)
	x := Explanation{Record: came, Decoded: []Tried{}, Rules: []Judgement{}, Otherwise: way.Otherwise, GoesTo: p.OutletNames(way.Outlets)}
	for _, j := range way.Rules {
		if j.Changes == nil {
			j.Changes = []string{}
		}
		x.Rules = append(x.Rules, Judgement(j))
	}
	if way.DroppedBy >= 0 {
		x.DroppedBy = &way.Rules[way.DroppedBy].Name
	}
	if after := r.AppendJSON(nil); !bytes.Equal(came, after) {
		x.Becomes = after
	}
	return x, way
}

// OutletNames returns the names of outlets; it is never nil.
func (p *Plan) OutletNames(numbers []int) []string {
	names := []string{}
	for _, o := range numbers {
		names = append(names, p.Outlets[o].Name)
	}
	return names
}

// Cell is where the records of one priority can go, for programs.
type Cell struct {
	Facility string   `json:"facility"`
	Severity string   `json:"severity"`
	Surely   []string `json:"surely"`
	Maybe    []string `json:"maybe"`
	Nowhere  string   `json:"nowhere" enum:"never,maybe,always"` // never, maybe or always
}

var verdictNames = map[condition.Verdict]string{condition.Never: "never", condition.Maybe: "maybe", condition.Always: "always"}

// Cells returns where the records of each priority can go.
func (p *Plan) Cells() (cells []Cell) {
	for i, reach := range p.Table.Matrix() {
		priority := record.Priority(i)
		cells = append(cells, Cell{priority.Facility().String(), priority.Severity().String(), p.OutletNames(reach.Surely), p.OutletNames(reach.Maybe), verdictNames[reach.Nowhere]})
	}
	return cells
}
