// Package ingest takes batches into the store: in the order of their feed, each number
// once, many batches with one transaction.
//
// A handler opens a [Batch], which checks its block, and gives it to [Feeds], which answers
// once it is committed. Feeds.Take may be called by several goroutines; for each shelf one
// goroutine of its [Queue] commits, so that batches which come together share the wait
// for the disk. A feed's row is locked meanwhile, so that several services may take
// batches side by side.
package ingest

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// Batch is a run of numbers of a feed, as an agent sends it.
type Batch struct {
	FeedKey
	Sender   string // the label of the token that it came with
	Run      string // "" of an agent that shows none, and of an import
	Previous string // the link of the batch before
	Twice    bool   // its records may be in another generation of the feed too
	spool.Numbers
	Refused int      // by us, as they cannot be taken
	Hash    [32]byte // of Payload
	Payload []byte   // a block; empty where all numbers were shed or are lost
	Watcher Watcher  // nil for none

	feedID uint64 // of the feed, where it is made with this batch
	header block.Header
	words  block.Words
	counts map[int64]*[8]int64 // by minute since 1970 and severity
	kinds  kindsOf
	said   Said
}

// Watcher finds out what batches say to alerts. It may be used by several goroutines at a time.
type Watcher interface {
	// Look looks at a batch whose block is read.
	Look(b *Batch, content *block.Block) (Said, error)
}

// Said is what a batch says to alerts: at once, and of each shape, by its key, where there was
// never a record of it.
type Said struct {
	Hits     []model.Hit
	OfShapes map[uint64][]model.Hit
}

// Kinds returns of what kinds the records are, none where they are too many, and whether
// facilities are told apart.
func (b *Batch) Kinds() (kinds []block.Kind, facilities bool) {
	return b.kinds.all, b.kinds.facilities
}

// Words returns the filter of the records.
func (b *Batch) Words() block.Words { return b.words }

// Open reads the payload and tells whether the numbers add up: each stands for
// a record, was shed or refused, or is lost.
func (b *Batch) Open() error {
	records := 0
	if len(b.Payload) > 0 {
		if err := b.read(); err != nil {
			return err
		}
		h := b.header
		records = h.Records
		if h.FirstNumber < b.First || h.LastNumber > b.Last {
			return errors.New("the block has numbers that are not of the batch")
		}
	}
	if !b.adds(records) {
		return fmt.Errorf("numbers %d to %d are not %d records, and what was shed, refused and lost", b.First, b.Last, records)
	}
	return nil
}

// mostNumber is the greatest number that a feed can come to: in JSON it is exact.
const mostNumber = 1 << 53

// adds tells whether the numbers of the batch are those of its records, and of what
// was shed, refused and lost. No sum can wrap: each part is taken off what is left.
func (b *Batch) adds(records int) bool {
	if b.First == 0 || b.Last < b.First || b.Last > mostNumber {
		return false
	}
	left := b.Last - b.First + 1
	for _, n := range append([]int{records, b.Lost, b.Refused}, b.Shed[:]...) {
		if n < 0 || uint64(n) > left {
			return false
		}
		left -= uint64(n)
	}
	return left == 0
}

// read checks the block, and finds out what a database needs to know of it.
func (b *Batch) read() error {
	content, words, err := block.Index(b.Payload)
	if err != nil {
		return err
	}
	b.header, b.words = content.Header(), words
	if longest := content.LongestText(); longest > block.MaxText {
		return fmt.Errorf("a text has %d bytes, and may have %d", longest, block.MaxText)
	}
	if b.counts, err = countsOf(content); err == nil && len(b.counts) > block.MaxMinutes {
		err = fmt.Errorf("its records are of %d minutes; send them in parts of %d at most", len(b.counts), block.MaxMinutes)
	}
	if err == nil {
		b.kinds, err = readKinds(content)
	}
	if err == nil && b.Watcher != nil {
		b.said, err = b.Watcher.Look(b, content)
	}
	return err
}

// countsOf counts the records of a block by the minute since 1970 and severity.
func countsOf(b *block.Block) (map[int64]*[8]int64, error) {
	counts := map[int64]*[8]int64{}
	var last int64
	var at *[8]int64 // the counts of the last minute: the next record is most often of the same
	return counts, b.EachTime(func(t record.Stamp, p record.Priority) {
		if minute := floor(t.Sec, 60); at == nil || minute != last {
			if at = counts[minute]; at == nil {
				at = new([8]int64)
				counts[minute] = at
			}
			last = minute
		}
		at[p.Severity()]++
	})
}

// WrongNumber says that a batch does not follow what is committed.
type WrongNumber struct{ Expected uint64 }

func (e *WrongNumber) Error() string {
	return fmt.Sprintf("number %d is expected next", e.Expected)
}

// ErrLease says that a run may not write into a feed.
var ErrLease = errors.New("another run of the agent has the lease of this feed")

// ErrFork says that other records came under the same numbers before: the
// agent's folder was restored from an older copy, or two agents share one.
var ErrFork = errors.New("other records are committed under these numbers: this feed has forked")

// Queue commits batches into one shelf. It may be used by several goroutines at a time.
type Queue struct {
	shelves *shelf.Set
	shelf   uint32
	waiting chan *job
	late    []*job // which gather has put off, for the next transactions
	beats   chan func()
	commits func(casks []uint64)
	shapes  *shapesKnown
}

type job struct {
	batch     *Batch
	confirmed client.Confirmed
	err       error
	done      chan struct{}
}

// The most that one transaction takes.
const (
	maxJobs    = 64
	maxBytes   = 32 << 20
	maxMinutes = 1024 // rows of counts; a usual batch is of one or two
)

// newQueue returns a queue that runs until ctx ends. After each commit it calls commits with
// the casks that have grown.
func newQueue(ctx context.Context, shelves *shelf.Set, id uint32, commits func(casks []uint64)) *Queue {
	q := &Queue{shelves: shelves, shelf: id, waiting: make(chan *job, maxJobs), beats: make(chan func()), commits: commits, shapes: newShapesKnown()}
	go q.run(ctx)
	return q
}

// Beat has what commits call beat each so often, until ctx ends: while it does its work.
func (q *Queue) Beat(ctx context.Context, every time.Duration, beat func()) {
	for tick := time.NewTicker(every); ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		select {
		case <-ctx.Done():
			return
		case q.beats <- beat:
		}
	}
}

// An agent has several batches under way, which may overtake each other: one
// that comes before its time waits for those before it.
const (
	overtakeTime  = 2 * time.Second
	overtakePause = 10 * time.Millisecond
)

// Take commits a batch and returns the last number of its feed that is
// committed. When it returns without an error, the batch is in the database.
func (q *Queue) Take(ctx context.Context, b *Batch) (confirmed client.Confirmed, err error) {
	for began := time.Now(); ; {
		confirmed, err = q.try(ctx, b)
		var wrong *WrongNumber
		if !errors.As(err, &wrong) || b.First < wrong.Expected || time.Since(began) > overtakeTime {
			return confirmed, err
		}
		select {
		case <-time.After(overtakePause):
		case <-ctx.Done():
			return confirmed, err
		}
	}
}

func (q *Queue) try(ctx context.Context, b *Batch) (confirmed client.Confirmed, err error) {
	j := &job{batch: b, done: make(chan struct{})}
	select {
	case q.waiting <- j:
	case <-ctx.Done():
		return confirmed, ctx.Err()
	}
	select {
	case <-j.done:
		return j.confirmed, j.err
	case <-ctx.Done(): // it may be committed all the same; the agent asks again
		return confirmed, ctx.Err()
	}
}

func (q *Queue) run(ctx context.Context) {
	for {
		if len(q.late) > 0 {
			first := q.late[0]
			q.late = q.late[1:]
			q.commitAll(q.gather(first))
			continue
		}
		select {
		case <-ctx.Done():
			return
		case j := <-q.waiting:
			q.commitAll(q.gather(j))
		case beat := <-q.beats:
			beat()
		}
	}
}

// gather takes what waits beside the first. Batches of many minutes are slow to count:
// where there are several, those that came later are put off.
func (q *Queue) gather(first *job) []*job {
	jobs, size, minutes := []*job{first}, len(first.batch.Payload), len(first.batch.counts)
	for len(jobs) < maxJobs && size < maxBytes {
		select {
		case j := <-q.waiting:
			if of := len(j.batch.counts); of > 2 && minutes+of > maxMinutes {
				q.late = append(q.late, j)
				continue
			}
			jobs, size, minutes = append(jobs, j), size+len(j.batch.Payload), minutes+len(j.batch.counts)
		default:
			return jobs
		}
	}
	return jobs
}

// ErrFailed says that a batch makes the service fail, by a fault of its own.
var ErrFailed = errors.New("this batch makes the service fail; its log tells where")

// commitAll commits batches, whatever happens. Where the service fails at some,
// each is committed by itself, so that it fails at one alone.
func (q *Queue) commitAll(jobs []*job) {
	failed := q.guard(jobs)
	if !failed {
		return
	}
	for _, j := range jobs {
		j.confirmed, j.err = client.Confirmed{}, nil
		if len(jobs) == 1 || q.guard([]*job{j}) {
			j.err = ErrFailed
			close(j.done)
		}
	}
}

// guard commits batches and tells whether that failed. Then no job is done.
func (q *Queue) guard(jobs []*job) (failed bool) {
	defer func() {
		if what := recover(); what != nil {
			failed = true
			slog.Error("a commit has failed", "batches", len(jobs), "what", what, "stack", string(debug.Stack()))
		}
	}()
	casks, err := q.commit(jobs)
	for _, j := range jobs {
		if err != nil {
			j.err = fmt.Errorf("the database does not take the batch: %w", err)
		}
		close(j.done)
	}
	if err == nil && len(casks) > 0 {
		q.commits(casks)
	}
	return false
}

// commit puts the batches into the database in one transaction, and returns the
// casks that have grown.
func (q *Queue) commit(jobs []*job) (casks []uint64, err error) {
	db, err := q.shelves.Of(q.shelf).DB(context.Background())
	if err != nil {
		return nil, err
	}
	var shapes []model.Shape
	err = model.Transact(db, func(tx *gorm.DB) error {
		counts := map[model.Minute]int64{}
		var hits []model.Hit
		casks, shapes = nil, nil
		for _, j := range jobs {
			j.err = nil
			before := len(shapes)
			taken, err := q.commitOne(tx, j, counts, &shapes)
			if err != nil {
				return err
			}
			if taken {
				hits = j.batch.appendHits(hits, shapes[before:])
			}
			if taken && !slices.Contains(casks, j.batch.CaskID) {
				casks = append(casks, j.batch.CaskID)
			}
		}
		if err := AddShapes(tx, shapes); err != nil {
			return err
		}
		for some := range slices.Chunk(hits, hitsTogether) {
			if err := tx.Create(&model.Hits{Arrived: time.Now().UnixMicro(), Said: model.PackHits(some)}).Error; err != nil {
				return err
			}
		}
		return AddCounts(tx, counts)
	})
	if err == nil {
		q.shapes.note(shapes)
	}
	return casks, err
}

const hitsTogether = 2000 // that one row has

// appendHits appends what the batch says to alerts, where it brings shapes.
func (b *Batch) appendHits(hits []model.Hit, shapes []model.Shape) []model.Hit {
	hits = append(hits, b.said.Hits...)
	for _, s := range shapes {
		if s.IsNew {
			hits = append(hits, b.said.OfShapes[s.Key]...)
		}
	}
	return hits
}

// commitOne puts one batch into a transaction. What is wrong with the batch alone is
// an error of its job; an error returned is one of the database.
func (q *Queue) commitOne(tx *gorm.DB, j *job, counts map[model.Minute]int64, shapes *[]model.Shape) (taken bool, err error) {
	b := j.batch
	feed, err := lockFeed(tx, q.shelf, b)
	if errors.Is(err, ErrMoved) || errors.Is(err, ErrLease) {
		j.err = err
		return false, nil
	}
	if err != nil {
		return false, err
	}
	j.confirmed = confirmedOf(feed)
	switch {
	case b.Run != feed.Run:
		j.err = ErrLease
		return false, nil
	case b.First != feed.Confirmed+1:
		j.err, err = judge(tx, feed, b)
		return false, err
	case b.Run != "" && b.Previous != feed.Link:
		j.err = ErrFork
		return false, nil
	}
	row := b.Row(feed.ID)
	addAll(counts, b.CaskID, b.counts)
	news, err := q.shapes.tellOf(tx, b, &row)
	if err != nil {
		return false, err
	}
	*shapes = append(*shapes, news...)
	if err := Insert(tx, &row); err != nil {
		return false, err
	}
	feed.Confirmed, feed.Sender, feed.Link = b.Last, b.Sender, client.LinkOf(feed.Link, client.BatchHead{Numbers: b.Numbers, Hash: hex.EncodeToString(b.Hash[:])})
	feed.Came += int64(row.Records)
	feed.Lost += int64(b.Lost)
	feed.Refused += int64(b.Refused)
	for _, n := range b.Shed {
		feed.Shed += int64(n)
	}
	if b.Twice {
		feed.Twice += int64(row.Records)
	}
	j.confirmed = confirmedOf(feed)
	return true, tx.Model(&feed).Select("confirmed", "sender", "link", "came", "lost", "refused", "shed", "twice").Updates(feed).Error
}

func confirmedOf(f model.Feed) client.Confirmed {
	return client.Confirmed{Confirmed: f.Confirmed, Link: f.Link, Account: accountOf(f)}
}

// Row returns the block of a batch that is opened, as the database has it.
func (b *Batch) Row(feed uint64) model.Block {
	row := model.Block{
		FeedID: feed, FirstNumber: b.First, LastNumber: b.Last, CaskID: b.CaskID, Arrived: time.Now().UnixMicro(), Lost: b.Lost, Refused: b.Refused, Twice: b.Twice,
		Size: int64(len(b.Payload)), Hash: b.Hash[:], Payload: b.Payload,
	}
	if b.Shed != [8]int{} {
		shed, _ := json.Marshal(b.Shed)
		row.Shed = string(shed)
	}
	if h := b.header; h.Records > 0 {
		row.Records, row.Severities, row.Facilities, row.BodySize, row.Words = h.Records, h.Severities, h.Facilities, int64(h.BodySize), b.words
		row.FirstTime, row.LastTime, row.Minutes, row.Kinds = Micros(h.FirstTime), Micros(h.LastTime), packMinutes(b.counts), b.kinds.pack()
	}
	return row
}

func floor(a, b int64) int64 {
	if a < 0 {
		return -((b - 1 - a) / b)
	}
	return a / b
}

// Micros returns the microseconds since 1970 of a time.
func Micros(s record.Stamp) int64 { return s.Sec*1e6 + int64(s.Nsec)/1000 }

// judge tells what is wrong with a batch that does not follow: nothing, where
// it is a repeat.
func judge(tx *gorm.DB, feed model.Feed, b *Batch) (problem, err error) {
	if b.First > feed.Confirmed {
		return &WrongNumber{feed.Confirmed + 1}, nil
	}
	var old model.Block
	err = tx.Omit("payload", "words", "field_values").Where("feed_id = ? AND first_number = ?", feed.ID, b.First).Take(&old).Error
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return &WrongNumber{feed.Confirmed + 1}, nil // cut into batches in another way
	case err != nil:
		return nil, err
	case old.LastNumber == b.Last && !bytes.Equal(old.Hash, b.Hash[:]):
		return ErrFork, nil
	case old.LastNumber == b.Last:
		return nil, nil
	}
	return &WrongNumber{feed.Confirmed + 1}, nil
}

// AddCounts adds to the counts by minute, in an order that lets no two services wait for each other.
func AddCounts(tx *gorm.DB, counts map[model.Minute]int64) error {
	return changeCounts(tx, counts, "count + VALUES(count)")
}

// SubtractCounts takes what CountBlock has counted out of the counts by minute.
func SubtractCounts(tx *gorm.DB, counts map[model.Minute]int64) error {
	if err := changeCounts(tx, counts, "GREATEST(0, count - VALUES(count))"); err != nil {
		return err
	}
	for m := range counts {
		if err := tx.Where("cask_id = ? AND minute = ? AND severity = ? AND count = 0", m.CaskID, m.Minute, m.Severity).Delete(&model.Minute{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// CountContent adds the records of a block of a cask to counts by minute and severity.
func CountContent(content *block.Block, cask uint64, counts map[model.Minute]int64) error {
	byMinute, err := countsOf(content)
	addAll(counts, cask, byMinute)
	return err
}

// addAll adds the counts of a block of a cask.
func addAll(counts map[model.Minute]int64, cask uint64, byMinute map[int64]*[8]int64) {
	for minute, bySeverity := range byMinute {
		for severity, n := range bySeverity {
			if n > 0 {
				counts[model.Minute{CaskID: cask, Minute: minute, Severity: uint8(severity)}] += n
			}
		}
	}
}

func changeCounts(tx *gorm.DB, counts map[model.Minute]int64, expression string) error {
	var rows []model.Minute
	for m, n := range counts {
		m.Count = n
		rows = append(rows, m)
	}
	if len(rows) == 0 {
		return nil
	}
	slices.SortFunc(rows, func(a, b model.Minute) int {
		return cmp.Or(cmp.Compare(a.CaskID, b.CaskID), cmp.Compare(a.Minute, b.Minute), cmp.Compare(a.Severity, b.Severity))
	})
	return tx.Clauses(clause.OnConflict{DoUpdates: clause.Assignments(map[string]any{"count": gorm.Expr(expression)})}).CreateInBatches(rows, 500).Error
}
