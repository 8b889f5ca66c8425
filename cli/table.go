package cli

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"oakbarrel/core/record"
)

// table prints rows with their columns in line, the first row as a head. A
// column of numbers alone stands to the right. Cells may hold what a sender
// wrote; they are made harmless.
func (a *app) table(rows [][]string) {
	var widths []int
	for _, row := range rows {
		for i := range row {
			row[i] = record.Visible(row[i])
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(row[i]))
		}
	}
	for _, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			space := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			if isNumeric(rows, i) {
				line.WriteString("  " + space + cell)
			} else {
				line.WriteString("  " + cell + space)
			}
		}
		fmt.Fprintln(a.stdout, strings.TrimRight(line.String(), " "))
	}
}

// isNumeric tells whether a column has numbers alone below its head.
func isNumeric(rows [][]string, column int) bool {
	for _, row := range rows[1:] {
		if row[column] == "" || strings.Trim(row[column], "0123456789,") != "" {
			return false
		}
	}
	return len(rows) > 1
}
