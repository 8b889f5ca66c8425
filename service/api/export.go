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

// exports are the forms of a file, each with its media type. begin returns what writes a
// record, which is there as JSON.
var exports = map[string]struct {
	media, ending string
	begin         func(w io.Writer) (write func(json []byte) error, err error)
}{
	"json":    {"application/x-ndjson", "jsonl", beginJSON},
	"csv":     {"text/csv; charset=utf-8; header=present", "csv", beginCSV},
	"rfc5424": {"text/plain; charset=utf-8", "log", beginSyslog},
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
		var write func(json []byte) error
		begin := func() (err error) {
			c.SetHeader("Content-Type", form.media)
			c.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", cmp.Or(in.Cask, "records")+"."+form.ending))
			write, err = form.begin(c.BodyWriter())
			return err
		}
		err := a.Search.Search(ctx, q, func(h search.Hit) error {
			if write == nil {
				if err := begin(); err != nil {
					return err
				}
			}
			return write(h.JSON)
		})
		if err == nil && write == nil {
			err = begin()
		}
		if errors.Is(err, block.ErrDamaged) && write == nil {
			answer(humagin.Unwrap(c), problem(http.StatusInternalServerError, "a block is damaged, so that the file would lack its records", "oakbarrel store check tells which; oakbarrel read passes over it, and says so"))
		} else if err != nil && write == nil {
			answer(humagin.Unwrap(c), a.unavailable(ctx, err))
		} else if err != nil {
			a.Log.Error("an export broke off; oakbarrel read passes over what is damaged", "why", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

func beginJSON(w io.Writer) (func(json []byte) error, error) {
	return func(json []byte) error {
		_, err := w.Write(append(json[:len(json):len(json)], '\n'))
		return err
	}, nil
}

func beginSyslog(w io.Writer) (func(json []byte) error, error) {
	var r record.Record
	var line []byte
	return func(json []byte) error {
		if err := r.ParseJSON(json); err != nil {
			return err
		}
		line = append(wire.AppendRFC5424Line(line[:0], &r), '\n')
		_, err := w.Write(line)
		return err
	}, nil
}

func beginCSV(w io.Writer) (func(json []byte) error, error) {
	rows := csv.NewWriter(w)
	rows.UseCRLF = true // RFC 4180, section 2
	write := func(cells []string) error {
		if err := rows.Write(cells); err != nil {
			return err
		}
		rows.Flush()
		return rows.Error()
	}
	var r record.Record
	return func(json []byte) error {
		if err := r.ParseJSON(json); err != nil {
			return err
		}
		return write(cellsOf(&r))
	}, write([]string{"time", "severity", "facility", "host", "app", "procid", "msgid", "text", "fields"})
}

func cellsOf(r *record.Record) []string {
	fields := ""
	if r.HasFields() {
		fields = string(r.Fields().Root().AppendJSON(nil))
	}
	cells := []string{r.Time.String(), r.Severity().String(), r.Facility().String()}
	for _, v := range [][]byte{r.Host, r.App, r.ProcID, r.MsgID, r.Text} {
		cells = append(cells, harmless(v))
	}
	return append(cells, fields)
}

// harmless is a text as a cell that no spreadsheet takes for a formula: senders may write anything.
func harmless(text []byte) string {
	if len(text) > 0 && bytes.IndexByte([]byte("=+-@\t\r"), text[0]) >= 0 {
		return "'" + string(text)
	}
	return string(text)
}
