package fleet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Assignment says which hosts get a plan.
type Assignment struct {
	Name string // of the assignment
	Plan string
	When *Condition
}

// Decision tells which assignment decides for a host, and why.
type Decision struct {
	By    *Assignment   // nil where none is met
	Exact int           // how exactly it speaks of the host
	Less  []*Assignment // that are met too, and less exact
	Tie   []*Assignment // that are met as exactly, and want another plan: then By is nil
}

// Why tells in words why an assignment decides, or none does.
func (d Decision) Why() string {
	switch {
	case len(d.Tie) > 0:
		return "as exact as each other are " + names(d.Tie) + ", which want different plans: make one more exact"
	case d.By == nil:
		return "no assignment is met"
	case len(d.Less) > 0:
		return fmt.Sprintf("%s is the most exact: %s; met too: %s", d.By.Name, d.By.When, names(d.Less))
	}
	return fmt.Sprintf("%s is met: %s", d.By.Name, d.By.When)
}

func names(all []*Assignment) string {
	var names []string
	for _, a := range all {
		names = append(names, a.Name)
	}
	return strings.Join(names, ", ")
}

// Decide finds the assignment that decides for a host: of those whose condition it
// meets the most exact, of those that want the same plan the first by name.
func Decide(host string, labels map[string]string, all []Assignment) (d Decision) {
	type meeting struct {
		a     *Assignment
		exact int
	}
	var met []meeting
	for i := range all {
		if ok, exact := all[i].When.Match(host, labels); ok {
			met = append(met, meeting{&all[i], exact})
		}
	}
	slices.SortFunc(met, func(a, b meeting) int {
		return cmp.Or(cmp.Compare(b.exact, a.exact), cmp.Compare(a.a.Name, b.a.Name))
	})
	for i, m := range met {
		switch {
		case i == 0:
			d.By, d.Exact = m.a, m.exact
		case m.exact == d.Exact && m.a.Plan != met[0].a.Plan:
			d.Tie = append(d.Tie, m.a)
		default:
			d.Less = append(d.Less, m.a)
		}
	}
	if len(d.Tie) > 0 {
		d.Tie, d.By = append([]*Assignment{d.By}, d.Tie...), nil
	}
	return d
}

// LabelValue is a value that hosts with a label have.
type LabelValue struct {
	Label, Of  string // role, gate
	Name, Text string
}

// Values returns what the places of a plan stand for on a host: its own values, before
// those of its labels, before the labels themselves. Two labels that give different
// values of one name are an error.
func Values(labels map[string]string, ofLabels []LabelValue, own map[string]string) (map[string]string, error) {
	values := map[string]string{}
	for name, value := range labels {
		values[name] = value
	}
	by := map[string]LabelValue{}
	for _, v := range ofLabels {
		if labels[v.Label] != v.Of {
			continue
		}
		if _, ofHost := own[v.Name]; ofHost {
			continue
		}
		if other, twice := by[v.Name]; twice && other.Text != v.Text {
			return nil, fmt.Errorf("the labels %s: %s and %s: %s give @{%s} different values; give the host one of its own", other.Label, other.Of, v.Label, v.Of, v.Name)
		}
		by[v.Name], values[v.Name] = v, v.Text
	}
	for name, text := range own {
		values[name] = text
	}
	return values, nil
}
