package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/core/condition"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

func (a *app) matrixCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "matrix FILE",
		Short: "Show where each facility and severity can go",
		Long: `Show where records of each of the 192 priorities can go under a plan: a letter for
each outlet that all of them go to, with a question mark where it depends on
more than the priority; a dash for nowhere.`,
		Example: `  oakbarrel plan matrix lantern-bay/tide-gw/plan.yaml
  oakbarrel plan matrix lantern-bay/reef-02/plan.yaml --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.loadPlan(args[0])
			if err != nil {
				return err
			}
			if a.json() {
				return a.printJSON(map[string]any{"file": p.File, "cells": p.Cells()})
			}
			a.printMatrix(p)
			return nil
		},
	}
}

// loadPlan reads a plan that must be without errors.
func (a *app) loadPlan(file string) (*plan.Plan, error) {
	p, findings, err := plan.Load(file)
	if err != nil {
		return nil, couldNot(err)
	}
	if findings.Refused() {
		for _, f := range findings {
			fmt.Fprintln(a.stderr, f)
		}
		return nil, codedError{exitNo, fmt.Errorf("%s has errors; mend them first", file)}
	}
	return p, nil
}

func (a *app) printMatrix(p *plan.Plan) {
	rows := [][]string{append([]string{""}, record.Severities[:]...)}
	matrix := p.Table.Matrix()
	for f := range record.Facilities {
		row := []string{record.Facilities[f]}
		for s := range record.Severities {
			row = append(row, cellText(matrix[f*8+s]))
		}
		last := rows[len(rows)-1]
		if len(rows) > 1 && slices.Equal(last[1:], row[1:]) { // the same as the facility before: one row for both
			first, _, _ := strings.Cut(last[0], "–")
			last[0] = first + "–" + row[0]
			continue
		}
		rows = append(rows, row)
	}
	a.table(rows)
	fmt.Fprintln(a.stdout)
	for i, o := range p.Outlets {
		fmt.Fprintf(a.stdout, "  %s  %s\n", letter(i), o.Name)
	}
	fmt.Fprintln(a.stdout, "  ?  it depends on more than facility and severity\n  -  nowhere")
}

func cellText(r route.Reach) string {
	var b strings.Builder
	outlets := append(slices.Clone(r.Surely), r.Maybe...)
	slices.Sort(outlets)
	for _, o := range outlets {
		b.WriteString(letter(o))
		if slices.Contains(r.Maybe, o) {
			b.WriteString("?")
		}
	}
	switch r.Nowhere {
	case condition.Always:
		b.WriteString("-")
	case condition.Maybe:
		b.WriteString("-?")
	}
	return b.String()
}

// letter names an outlet: a to z, then a1 and so on.
func letter(i int) string {
	if i < 26 {
		return string(rune('a' + i))
	}
	return fmt.Sprintf("%c%d", 'a'+i%26, i/26)
}
