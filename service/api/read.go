package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
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
	Limit int    `query:"limit" default:"1000" minimum:"1" maximum:"1000000000000" doc:"how many at most"`
	Order string `query:"order" enum:"newest,oldest" default:"newest" doc:"what comes first"`
	After string `query:"after" doc:"the place of a record: go on behind it"`
	// Progress asks for lines between the records.
	Progress bool `query:"progress" doc:"with places: tell now and then how far the search is, {\"searched\": 40, \"of\": 120}, in blocks"`
	Places   bool `query:"places" doc:"tell the place of each record: {\"place\": …, \"record\": {…}}"`
}

// progressTime is between two lines that tell how far a search is.
const progressTime = 250 * time.Millisecond

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
		c.SetHeader("Trailer", client.DamagedTrailer+", "+client.MissingTrailer)
		lacks := &lacking{}
		q.Missing = lacks.note
		var damaged atomic.Int64
		tell := q.Damaged
		q.Damaged = func(block uint64, err error) {
			damaged.Add(1)
			tell(block, err)
		}
		started := false
		var writing sync.Mutex // between the records and the progress
		if in.Progress && in.Places {
			told := time.Now()
			q.Progress = func(done, all int) {
				if time.Since(told) < progressTime {
					return
				}
				told = time.Now()
				writing.Lock()
				defer writing.Unlock()
				started = true
				fmt.Fprintf(c.BodyWriter(), `{"searched":%d,"of":%d}`+"\n", done, all)
				humagin.Unwrap(c).Writer.Flush()
			}
		}
		var line []byte
		err := a.Search.Search(ctx, q, func(h search.Hit) error {
			writing.Lock()
			defer writing.Unlock()
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
		if names := lacks.names(); err == nil && len(names) > 0 {
			c.SetHeader(client.MissingTrailer, strings.Join(names, ", "))
			if in.Progress && in.Places { // for those who cannot see a trailer
				line, _ := json.Marshal(map[string][]string{"missing": names})
				c.BodyWriter().Write(append(line, '\n'))
			}
		}
		if err != nil && !started {
			answer(humagin.Unwrap(c), a.unavailable(ctx, err))
		} else if err != nil {
			a.Log.Error("a search broke off", "why", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

// inQuotes returns a text as a condition has it.
func inQuotes(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

type neighboursInput struct {
	Cask  string `query:"cask" doc:"as for records"`
	Place string `query:"place" required:"true" doc:"the place of a record, as records tells it"`
	Host  string `query:"host" doc:"only records of this host"`
	Agent string `query:"agent" doc:"only records that the agent of this host took in"`
	Each  int    `query:"each" default:"10" minimum:"1" maximum:"1000" doc:"how many before it, and how many after it"`
}

type neighboursOutput struct{ Body client.Neighbours }

// neighbours tells what came, of a host or an agent, before and after a record, the oldest first.
func (a *API) neighbours(ctx context.Context, in *neighboursInput) (*neighboursOutput, error) {
	place, err := search.ParsePlace(in.Place)
	if err != nil {
		return nil, problem(http.StatusBadRequest, err.Error(), "")
	}
	var where []string
	for _, of := range []struct{ property, name string }{{"host", in.Host}, {"agent", in.Agent}} {
		if of.name != "" {
			where = append(where, of.property+" is "+inQuotes(of.name))
		}
	}
	q, err := a.query(ctx, &Range{Cask: in.Cask, Where: strings.Join(where, " and ")})
	if err != nil {
		return nil, err
	}
	lacks := &lacking{}
	q.Limit, q.After, q.Missing = in.Each, place, lacks.note
	out := &neighboursOutput{Body: client.Neighbours{Before: []client.Placed{}, After: []client.Placed{}}}
	for _, side := range []struct {
		oldest bool
		to     *[]client.Placed
	}{{false, &out.Body.Before}, {true, &out.Body.After}} {
		q.OldestFirst = side.oldest
		err := a.Search.Search(ctx, q, func(h search.Hit) error {
			*side.to = append(*side.to, client.Placed{Place: h.Place.String(), Record: json.RawMessage(h.JSON)})
			return nil
		})
		if err != nil {
			return nil, a.unavailable(ctx, err)
		}
	}
	slices.Reverse(out.Body.Before)
	out.Body.Missing = lacks.names()
	return out, nil
}

type countsInput struct {
	Range
	By    string `query:"by" enum:"severity,minute,priority,host,agent,app,msgid,unit,facility,intake,field" default:"severity" doc:"what the counts are parted by"`
	Field string `query:"field" doc:"the path of the field, by which the counts are parted"`
	Top   int    `query:"top" default:"20" minimum:"1" maximum:"10000" doc:"how many values of a property or a field, the most frequent first"`
}

type countsOutput struct{ Body client.Counts }

func (a *API) counts(ctx context.Context, in *countsInput) (*countsOutput, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	lacks := &lacking{}
	q.Missing = lacks.note
	out := &countsOutput{Body: client.Counts{By: []client.Count{}}}
	var counts []search.Count
	switch in.By {
	case "severity", "minute", "priority":
		out.Body.Total, counts, err = a.Search.CountBy(ctx, q, in.By)
	default:
		by, wrong := search.ValueOf(in.By, in.Field)
		if wrong != nil {
			return nil, problem(http.StatusBadRequest, "field: "+wrong.Error(), "write a path such as tank@32473.ph")
		}
		a.noteReading(ctx, "count values", &in.Range)
		out.Body.Total, out.Body.Others, counts, err = a.Search.TopValues(ctx, q, by, in.Top)
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	for _, n := range counts {
		out.Body.By = append(out.Body.By, client.Count(n))
	}
	out.Body.Missing = lacks.names()
	return out, nil
}

type histogramInput struct {
	Range
	Parts int `query:"parts" default:"60" minimum:"1" maximum:"1000" doc:"how many equal parts the span has"`
}

type histogramOutput struct {
	Missing string `header:"Oakbarrel-Missing-Shelves" doc:"shelves that are away: what they have is not counted"`
	Body    [][8]int64
}

// histogram counts what meets the query in equal parts of its span, by severity.
func (a *API) histogram(ctx context.Context, in *histogramInput) (*histogramOutput, error) {
	q, err := a.query(ctx, &in.Range)
	if err != nil {
		return nil, err
	}
	if q.Since == 0 || q.Until <= q.Since {
		return nil, problem(http.StatusBadRequest, "a histogram needs since, and until after it", "")
	}
	lacks := &lacking{}
	q.Missing = lacks.note
	counts, err := a.Search.Histogram(ctx, q, in.Parts)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &histogramOutput{strings.Join(lacks.names(), ", "), counts}, nil
}
