package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
	"oakbarrel/service/search"
)

type exportInput struct {
	Range
	As    string `query:"as" enum:"json,csv,rfc5424" default:"json" doc:"json: a line of JSON for each record; csv: RFC 4180, with a head; rfc5424: a line of syslog"`
	Order string `query:"order" enum:"newest,oldest" default:"oldest" doc:"what comes first"`
}

const everything = 1_000_000_000_000

// exports are the forms of a file, each with its media type.
var exports = map[string]struct {
	media, ending string
	begin         func(w io.Writer) error
	write         func(w io.Writer, r *record.Record, line []byte) error
}{
	"json": {"application/x-ndjson", "jsonl", nil, func(w io.Writer, _ *record.Record, line []byte) error { return writeLine(w, line) }},
	"csv":  {"text/csv; charset=utf-8; header=present", "csv", writeHead, writeRow},
	"rfc5424": {"text/plain; charset=utf-8", "log", nil, func(w io.Writer, r *record.Record, _ []byte) error {
		return writeLine(w, wire.AppendRFC5424Line(nil, r))
	}},
}

// export streams what meets the query as a file that is saved. It is whole, or breaks off: a
// shelf that is away and a damaged block end it, as a file cannot say what it lacks.
func (a *API) export(ctx context.Context, in *exportInput) (*huma.StreamResponse, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	q.Limit, q.OldestFirst, q.Damaged = everything, in.Order == "oldest", nil
	a.noteReading(ctx, "export", &in.Range)
	form := exports[in.As]
	return &huma.StreamResponse{Body: func(c huma.Context) {
		begun := false
		begin := func() error {
			begun = true
			c.SetHeader("Content-Type", form.media)
			c.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", cmp.Or(in.Cask, "records")+"."+form.ending))
			if form.begin == nil {
				return nil
			}
			return form.begin(c.BodyWriter())
		}
		var r record.Record
		err := a.Search.Search(ctx, q, func(h search.Hit) error {
			if !begun {
				if err := begin(); err != nil {
					return err
				}
			}
			if err := r.ParseJSON(h.JSON); err != nil {
				return err
			}
			return form.write(c.BodyWriter(), &r, h.JSON)
		})
		if err == nil && !begun {
			err = begin()
		}
		if errors.Is(err, block.ErrDamaged) && !begun {
			answer(humagin.Unwrap(c), problem(http.StatusInternalServerError, "a block is damaged, so that the file would lack its records", "oakbarrel store check tells which; oakbarrel read passes over it, and says so"))
		} else if err != nil && !begun {
			answer(humagin.Unwrap(c), a.unavailable(ctx, err))
		} else if err != nil {
			a.Log.Error("an export broke off; oakbarrel read passes over what is damaged", "why", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

func writeLine(w io.Writer, line []byte) error {
	_, err := w.Write(append(line[:len(line):len(line)], '\n'))
	return err
}

func writeHead(w io.Writer) error {
	return writeCells(w, []string{"time", "severity", "facility", "host", "app", "procid", "msgid", "text", "fields"})
}

func writeRow(w io.Writer, r *record.Record, _ []byte) error {
	fields := ""
	if r.HasFields() {
		fields = string(r.Fields().Root().AppendJSON(nil))
	}
	cells := []string{r.Time.String(), r.Severity().String(), r.Facility().String()}
	for _, v := range [][]byte{r.Host, r.App, r.ProcID, r.MsgID, r.Text} {
		cells = append(cells, harmless(v))
	}
	return writeCells(w, append(cells, fields))
}

// harmless is a text as a cell that no spreadsheet takes for a formula: senders may write anything.
func harmless(text []byte) string {
	if len(text) > 0 && bytes.IndexByte([]byte("=+-@\t\r"), text[0]) >= 0 {
		return "'" + string(text)
	}
	return string(text)
}

func writeCells(w io.Writer, cells []string) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true // RFC 4180, section 2
	if err := c.Write(cells); err != nil {
		return err
	}
	c.Flush()
	return c.Error()
}
