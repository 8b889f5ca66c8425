package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/condition"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// mayRead narrows a choice of casks to those that the token may read.
func mayRead(c *gin.Context, db *gorm.DB) *gorm.DB {
	db = db.WithContext(c.Request.Context())
	if token := c.MustGet(tokenKey).(model.Token); token.CaskID != nil {
		db = db.Where("casks.id = ?", *token.CaskID)
	}
	return db
}

func (a *API) casks(c *gin.Context) {
	var rows []struct {
		Name                   string
		Records, Bytes         int64
		FirstMicro, LastMicros *int64
	}
	err := mayRead(c, a.DB).Model(&model.Cask{}).Joins("LEFT JOIN blocks ON blocks.cask_id = casks.id AND blocks.records > 0").
		Select("casks.name, COALESCE(SUM(blocks.records), 0) AS records, COALESCE(SUM(blocks.size), 0) AS bytes, MIN(blocks.first_time) AS first_micro, MAX(blocks.last_time) AS last_micros").
		Group("casks.id").Order("casks.name").Find(&rows).Error
	if err != nil {
		a.unavailable(c, err)
		return
	}
	casks := []client.Cask{}
	for _, r := range rows {
		casks = append(casks, client.Cask{Name: r.Name, Records: r.Records, Bytes: r.Bytes, First: timeOf(r.FirstMicro), Last: timeOf(r.LastMicros)})
	}
	c.JSON(http.StatusOK, casks)
}

func timeOf(micros *int64) *time.Time {
	if micros == nil {
		return nil
	}
	t := time.UnixMicro(*micros).UTC()
	return &t
}

func (a *API) hosts(c *gin.Context) {
	var rows []model.Agent
	if err := a.DB.WithContext(c.Request.Context()).Omit("status").Order("host, id").Find(&rows).Error; err != nil {
		a.unavailable(c, err)
		return
	}
	hosts := []client.Host{}
	for _, r := range rows {
		hosts = append(hosts, client.Host{Name: r.Host, AgentID: r.ID, LastHeard: r.LastHeard, PlanHash: r.PlanHash, Held: r.Held})
	}
	c.JSON(http.StatusOK, hosts)
}

const (
	defaultLimit = 1000
	maxLimit     = 10_000_000
)

// query reads the parameters of a search. It has answered where ok is false.
func (a *API) query(c *gin.Context) (q search.Query, ok bool) {
	var casks []model.Cask
	db := mayRead(c, a.DB)
	name := c.Query("cask")
	if name != "" {
		db = db.Where("name = ?", name)
	}
	if err := db.Find(&casks).Error; err != nil {
		a.unavailable(c, err)
		return q, false
	}
	if name != "" && len(casks) == 0 {
		problem(c, http.StatusNotFound, "there is no cask "+quoted(name)+" that the token may read", "oakbarrel casks lists those that it may")
		return q, false
	}
	for _, cask := range casks {
		q.Casks = append(q.Casks, cask.ID)
	}
	err := errors.Join(parseTime(c, "since", &q.Since), parseTime(c, "until", &q.Until), parseLimit(c, &q.Limit))
	if where := c.Query("where"); where != "" && err == nil {
		if q.Condition, err = condition.Parse(where, nil); err != nil {
			at := err.(*condition.Error).Offset
			err = fmt.Errorf("where, column %d: %w", len([]rune(where[:at]))+1, err)
		}
	}
	q.OldestFirst = c.Query("order") == "oldest"
	if after := c.Query("after"); after != "" && err == nil {
		q.After, err = search.ParsePlace(after)
	}
	if err != nil {
		problem(c, http.StatusBadRequest, err.Error(), "")
		return q, false
	}
	return q, true
}

func parseTime(c *gin.Context, name string, to *int64) error {
	text := c.Query(name)
	if text == "" {
		return nil
	}
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return fmt.Errorf("%s is a time such as 2026-11-25T10:15:00Z", name)
	}
	*to = t.UnixMicro()
	return nil
}

func parseLimit(c *gin.Context, to *int) (err error) {
	*to = defaultLimit
	if text := c.Query("limit"); text != "" {
		if *to, err = strconv.Atoi(text); err != nil || *to < 1 || *to > maxLimit {
			return fmt.Errorf("limit is a number from 1 to %d", maxLimit)
		}
	}
	return nil
}

// records streams what meets the query, one line of JSON a record. An error in
// the middle breaks the connection off, so that nobody takes a part for the whole.
func (a *API) records(c *gin.Context) {
	q, ok := a.query(c)
	if !ok {
		return
	}
	started := false
	err := a.Search.Search(c.Request.Context(), q, func(h search.Hit) error {
		if !started {
			c.Header("Content-Type", "application/x-ndjson")
			started = true
		}
		_, err := c.Writer.Write(append(h.JSON, '\n'))
		return err
	})
	switch {
	case err == nil && !started:
		c.Header("Content-Type", "application/x-ndjson")
		c.Status(http.StatusOK)
	case err != nil && !started:
		a.unavailable(c, err)
	case err != nil:
		a.Log.Error("a search broke off", "why", err)
		panic(http.ErrAbortHandler)
	}
}

func (a *API) counts(c *gin.Context) {
	q, ok := a.query(c)
	if !ok {
		return
	}
	by := c.DefaultQuery("by", "severity")
	if by != "severity" && by != "minute" {
		problem(c, http.StatusBadRequest, "by is severity or minute", "")
		return
	}
	total, counts, err := a.Search.CountBy(c.Request.Context(), q, by)
	if err != nil {
		a.unavailable(c, err)
		return
	}
	answer := client.Counts{Total: total, By: []client.Count{}}
	for _, n := range counts {
		answer.By = append(answer.By, client.Count(n))
	}
	c.JSON(http.StatusOK, answer)
}

// statuses tells what each agent says of itself, as it said it.
func (a *API) statuses(c *gin.Context) {
	var rows []model.Agent
	if err := a.DB.WithContext(c.Request.Context()).Order("host, id").Find(&rows).Error; err != nil {
		a.unavailable(c, err)
		return
	}
	list := []gin.H{}
	for _, r := range rows {
		list = append(list, gin.H{"name": r.Host, "agent_id": r.ID, "last_heard": r.LastHeard, "held": r.Held, "plan_hash": r.PlanHash, "status": json.RawMessage(r.Status)})
	}
	c.JSON(http.StatusOK, list)
}

// histogram counts what meets the query in equal parts of its span, by severity.
func (a *API) histogram(c *gin.Context) {
	q, ok := a.query(c)
	if !ok {
		return
	}
	parts, err := strconv.Atoi(c.DefaultQuery("parts", "60"))
	if err != nil || parts < 1 || parts > 1000 || q.Since == 0 || q.Until <= q.Since {
		problem(c, http.StatusBadRequest, "a histogram needs since, until, and parts from 1 to 1000", "")
		return
	}
	counts, err := a.Search.Histogram(c.Request.Context(), q, parts)
	if err != nil {
		a.unavailable(c, err)
		return
	}
	c.JSON(http.StatusOK, counts)
}
