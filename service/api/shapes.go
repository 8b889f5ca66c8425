package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/service/search"
)

type shapesInput struct {
	Range
	NewSince string   `query:"new_since" format:"date-time" doc:"a shape of which there was no record before is new; the start of the span where it is missing"`
	Only     []string `query:"only" enum:"new,risen,fallen,ceased" doc:"only shapes about which this is remarkable"`
	Parts    int      `query:"parts" default:"48" minimum:"1" maximum:"100" doc:"in how many equal parts of the span the course of a shape is told"`
	Limit    int      `query:"limit" default:"100" minimum:"1" maximum:"10000" doc:"how many shapes at most, those with the most records first"`
}

type shapesOutput struct{ Body client.Shapes }

// namesTold is how many hosts and apps of a shape are told by name.
const namesTold = 5

// shapes counts what meets the query by the shapes of the texts.
func (a *API) shapes(ctx context.Context, in *shapesInput) (*shapesOutput, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	if q.Since == 0 || q.Until <= q.Since {
		return nil, problem(http.StatusBadRequest, "shapes need since, and until after it", "")
	}
	newSince := cmp.Or(micros(in.NewSince), q.Since)
	lacks := &lacking{}
	q.Missing = lacks.note
	a.noteReading(ctx, "count shapes", &in.Range)
	found, err := a.Search.Shapes(ctx, q, in.Parts)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	slices.SortFunc(found.All, func(a, b *search.ShapeCount) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(b.Before, a.Before), strings.Compare(a.Text, b.Text))
	})
	out := &shapesOutput{Body: client.Shapes{Total: found.Total, Before: found.Before, Shapes: []client.ShapeOf{}, Missing: lacks.names()}}
	out.Body.More.Records = found.Others
	for _, c := range found.All {
		what := found.What(c, newSince)
		switch {
		case len(in.Only) == 0 && c.Count == 0 && what == "", len(in.Only) > 0 && !slices.Contains(in.Only, what):
		case len(out.Body.Shapes) == in.Limit:
			out.Body.More.Shapes++
			out.Body.More.Records += c.Count
		default:
			out.Body.Shapes = append(out.Body.Shapes, shapeOf(c, what))
		}
	}
	return out, nil
}

func shapeOf(c *search.ShapeCount, what string) client.ShapeOf {
	of := client.ShapeOf{
		Shape: strings.ToValidUTF8(c.Text, "\uFFFD"), What: what, Records: c.Count, Before: c.Before,
		HostCount: len(c.Hosts), Hosts: mostOf(c.Hosts), Apps: mostOf(c.Apps), Course: c.Course,
	}
	for s, n := range c.Severities {
		if n > 0 {
			of.Severity, of.Worst = record.Severity(s).String(), n
			break
		}
	}
	if c.Count > 0 {
		of.First, of.Last = timeOf(&c.First), timeOf(&c.Last)
	}
	if c.Known < search.Never {
		of.Since = timeOf(&c.Known)
	}
	return of
}

// mostOf returns the names with the most records.
func mostOf(names map[string]int64) []client.Count {
	all := []client.Count{}
	for name, n := range names {
		all = append(all, client.Count{Key: cmp.Or(strings.ToValidUTF8(name, "\uFFFD"), search.Missing), Count: n})
	}
	slices.SortFunc(all, func(a, b client.Count) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Key, b.Key))
	})
	return all[:min(len(all), namesTold)]
}
