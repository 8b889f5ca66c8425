package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/condition"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// mayRead narrows a choice of casks to those that the visitor may read.
func (a *API) mayRead(ctx context.Context) *gorm.DB {
	db := a.DB.WithContext(ctx)
	if only := visitor(ctx).Cask; only != nil {
		db = db.Where("casks.id = ?", *only)
	}
	return db
}

// Range says which records are meant.
type Range struct {
	Cask  string `query:"cask" doc:"the name of a cask; every one that the visitor may read where it is missing"`
	Since string `query:"since" format:"date-time" doc:"the first time that counts"`
	Until string `query:"until" format:"date-time" doc:"the first time that does not count any more"`
	Where string `query:"where" doc:"a condition that the records meet"`
}

// query makes a search of it.
func (a *API) query(ctx context.Context, in *Range) (q search.Query, err error) {
	var casks []model.Cask
	db := a.mayRead(ctx)
	if in.Cask != "" {
		db = db.Where("name = ?", in.Cask)
	}
	if err := db.Find(&casks).Error; err != nil {
		return q, a.unavailable(ctx, err)
	}
	if in.Cask != "" && len(casks) == 0 {
		return q, problem(http.StatusNotFound, "there is no cask "+quoted(in.Cask)+" that may be read", "oakbarrel casks lists those that may")
	}
	for _, cask := range casks {
		q.Casks = append(q.Casks, cask.ID)
	}
	q.Since, q.Until = micros(in.Since), micros(in.Until)
	q.Damaged = func(block uint64, err error) {
		a.Log.Error("a block is damaged; what is read lacks its records", "block", block, "why", err)
	}
	if in.Where != "" {
		if q.Condition, err = condition.Parse(in.Where, nil); err != nil {
			at := err.(*condition.Error).Offset
			return q, problem(http.StatusBadRequest, fmt.Sprintf("where, column %d: %v", len([]rune(in.Where[:at]))+1, err), "")
		}
	}
	return q, nil
}

// micros reads a time whose form was checked, 0 for none.
func micros(text string) int64 {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return 0
	}
	return t.UnixMicro()
}

type recordsInput struct {
	Range
	Limit  int    `query:"limit" default:"1000" minimum:"1" maximum:"10000000" doc:"how many at most"`
	Order  string `query:"order" enum:"newest,oldest" default:"newest" doc:"what comes first"`
	After  string `query:"after" doc:"the place of a record: go on behind it"`
	Places bool   `query:"places" doc:"tell the place of each record: {\"place\": …, \"record\": {…}}"`
}

// records streams what meets the query, one line of JSON a record. An error in
// the middle breaks the connection off, so that nobody takes a part for the whole.
func (a *API) records(ctx context.Context, in *recordsInput) (*huma.StreamResponse, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	q.Limit, q.OldestFirst = in.Limit, in.Order == "oldest"
	if in.After != "" {
		if q.After, err = search.ParsePlace(in.After); err != nil {
			return nil, problem(http.StatusBadRequest, err.Error(), "")
		}
	}
	if in.After == "" { // the first page
		a.noteReading(ctx, "read", &in.Range)
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		c.SetHeader("Content-Type", "application/x-ndjson")
		c.SetHeader("Trailer", client.DamagedTrailer)
		var damaged atomic.Int64
		tell := q.Damaged
		q.Damaged = func(block uint64, err error) {
			damaged.Add(1)
			tell(block, err)
		}
		started := false
		var line []byte
		err := a.Search.Search(ctx, q, func(h search.Hit) error {
			started = true
			line = line[:0]
			if in.Places {
				line = fmt.Appendf(line, `{"place":%q,"record":`, h.Place)
			}
			line = append(line, h.JSON...)
			if in.Places {
				line = append(line, '}')
			}
			_, err := c.BodyWriter().Write(append(line, '\n'))
			return err
		})
		if n := damaged.Load(); n > 0 {
			c.SetHeader(client.DamagedTrailer, strconv.FormatInt(n, 10))
		}
		if err != nil && !started {
			answer(humagin.Unwrap(c), a.unavailable(ctx, err))
		} else if err != nil {
			a.Log.Error("a search broke off", "why", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

type countsInput struct {
	Range
	By string `query:"by" enum:"severity,minute,priority" default:"severity" doc:"what the counts are parted by"`
}

type countsOutput struct{ Body client.Counts }

func (a *API) counts(ctx context.Context, in *countsInput) (*countsOutput, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	total, counts, err := a.Search.CountBy(ctx, q, in.By)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &countsOutput{Body: client.Counts{Total: total, By: []client.Count{}}}
	for _, n := range counts {
		out.Body.By = append(out.Body.By, client.Count(n))
	}
	return out, nil
}

type histogramInput struct {
	Range
	Parts int `query:"parts" default:"60" minimum:"1" maximum:"1000" doc:"how many equal parts the span has"`
}

type histogramOutput struct{ Body [][8]int64 }

// histogram counts what meets the query in equal parts of its span, by severity.
func (a *API) histogram(ctx context.Context, in *histogramInput) (*histogramOutput, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	if q.Since == 0 || q.Until <= q.Since {
		return nil, problem(http.StatusBadRequest, "a histogram needs since, and until after it", "")
	}
	counts, err := a.Search.Histogram(ctx, q, in.Parts)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &histogramOutput{counts}, nil
}
