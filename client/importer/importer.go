// Package importer brings files that are there already into the central store.
// Each file is a feed of its own, whose numbers are those of its records in
// their order: so an import that broke off goes on where it was, and a file
// that was imported before is not there twice.
//
// Its entry is [File].
package importer

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding/unicode"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/event"
	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// Outlet is the outlet's name of the feeds that an import makes.
const Outlet = "import"

// A block has at most so many records and bytes of them.
const (
	mostRecords = 20_000
	mostBytes   = 4 << 20
	mostMinutes = block.MaxMinutes / 2 // the records of a line that was joined come with it
	longest     = 1 << 20              // bytes of a line that are read; what is over is cut off
)

// Options says how files are imported.
type Options struct {
	Cask    string
	Service *client.Client
	Lines   lines.Settings
	// Records says that each line is a record as read and files of the format json have it.
	Records bool
	// Events says that the files are events of Windows: event files, or XML.
	Events bool
	// Settings names everything that decides which records a file has: with other
	// settings a file is another feed.
	Settings string
	// Progress is called from time to time with how many bytes of the file, as it
	// stands on disk, were read, and how many records were made. It may be nil.
	Progress func(done, size, records int64)
}

// Result is what came of a file.
type Result struct {
	File    string     `json:"file"`
	Records int64      `json:"records"`
	Already int64      `json:"already"` // of them were in the store before
	Fell    lines.Fell `json:"fell"`    // records that fell back to a default
}

// File imports one file, plain or compressed with gzip or zstd.
func File(ctx context.Context, path string, o Options) (Result, error) {
	r := Result{File: path}
	id, err := identity(ctx, path, o)
	if err != nil {
		return r, err
	}
	confirmed, err := retry(ctx, func() (uint64, error) { return o.Service.Confirmed(ctx, id, Outlet, o.Cask, client.Imported) })
	if err != nil {
		return r, err
	}
	content, err := open(path, &o)
	if err != nil {
		return r, err
	}
	defer content.Close()
	s := &sender{ctx: ctx, options: o, id: id, confirmed: confirmed, minutes: map[int64]bool{}, batches: make(chan batch, 1), result: &r}
	sent := make(chan error, 1)
	go func() { sent <- s.send() }()
	err = s.read(content)
	close(s.batches)
	if failed := <-sent; failed != nil {
		err = failed
	}
	return r, err
}

// identity is the id of a file's feed: that of what stands in it, decompressed.
func identity(ctx context.Context, path string, o Options) (string, error) {
	content, err := open(path, &o)
	if err != nil {
		return "", err
	}
	defer content.Close()
	hash := sha256.New()
	fmt.Fprintf(hash, "%s\n%s\n", o.Cask, o.Settings)
	for {
		if _, err := io.CopyN(hash, content, 16<<20); err == io.EOF {
			break
		} else if err != nil {
			return "", fmt.Errorf("%s cannot be read: %w", path, err)
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
	}
	return hex.EncodeToString(hash.Sum(nil)[:16]), nil
}

// content is a file, decompressed.
type content struct {
	io.Reader
	file     *os.File
	size     int64
	furthest int64    // that was read by place
	apart    *os.File // an event file that was compressed, nil for none
}

func (c *content) Close() error {
	if c.apart != nil {
		c.apart.Close()
		os.Remove(c.apart.Name())
	}
	return c.file.Close()
}

// open opens a file. What stands at its beginning tells whether it is compressed.
func open(path string, o *Options) (*content, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = fmt.Errorf("%s is not a regular file", path)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	in := bufio.NewReaderSize(f, 256<<10)
	c := &content{Reader: in, file: f, size: st.Size()}
	head, _ := in.Peek(8)
	if o.Events && event.IsFile(head) {
		c.Reader = event.NewFileReader(c)
		return c, nil
	}
	switch {
	case len(head) >= 2 && head[0] == 0x1f && head[1] == 0x8b: // RFC 1952
		c.Reader, err = gzip.NewReader(in)
	case bytes.HasPrefix(head, []byte("\x28\xb5\x2f\xfd")): // RFC 8878
		var d *zstd.Decoder
		if d, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20)); err == nil {
			c.Reader = d
		}
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s cannot be decompressed: %w", path, err)
	}
	if err := c.asText(o); err != nil {
		c.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return c, nil
}

// asText has the content read as UTF-8, where a mark says that it is UTF-16, and each event of
// Windows as a line.
func (c *content) asText(o *Options) error {
	in := bufio.NewReader(c.Reader)
	c.Reader = in
	switch head, _ := in.Peek(8); {
	case o.Events && event.IsFile(head):
		return c.unpackEvents(in)
	case bytes.HasPrefix(head, []byte("\xff\xfe")), bytes.HasPrefix(head, []byte("\xfe\xff")):
		c.Reader = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(in)
	}
	if o.Events {
		c.Reader = event.NewSplitter(c.Reader)
	}
	return nil
}

// unpackEvents decompresses an event file into a temporary one, as it is not read from its
// beginning to its end.
func (c *content) unpackEvents(in io.Reader) error {
	f, err := os.CreateTemp("", "oakbarrel-events-*")
	if err != nil {
		return err
	}
	c.apart = f
	os.Remove(f.Name()) // where a file that is open can be; nothing is left, whatever ends this
	n, err := io.Copy(f, io.LimitReader(in, event.MostFile+1))
	if err == nil && n > event.MostFile {
		err = errors.New("it is larger than an event file can be")
	}
	c.Reader = event.NewFileReader(f)
	return err
}

// ReadAt implements [io.ReaderAt] for the file as it stands on disk.
func (c *content) ReadAt(b []byte, at int64) (int, error) {
	n, err := c.file.ReadAt(b, at)
	c.furthest = max(c.furthest, at+int64(n))
	return n, err
}

// at returns how far the file was read, as it stands on disk.
func (c *content) at() int64 {
	n, _ := c.file.Seek(0, io.SeekCurrent)
	return max(n, c.furthest)
}

// batch is a block that is ready.
type batch struct {
	first, last uint64
	payload     []byte
}

// sender makes blocks of records and sends them.
type sender struct {
	ctx       context.Context
	options   Options
	id        string
	confirmed uint64
	number    uint64
	builder   block.Builder
	first     uint64
	minutes   map[int64]bool // since 1970, of the records of the block
	batches   chan batch
	result    *Result
}

// read makes records of all lines.
func (s *sender) read(c *content) error {
	in := bufio.NewReaderSize(c, longest)
	maker := lines.NewMaker("", &s.options.Lines)
	var out lines.Out
	var offset int64
	told := time.Now()
	for {
		text, cut, n, err := readLine(in)
		if err != nil && err != io.EOF {
			return fmt.Errorf("%s cannot be read behind record %d: %w", s.result.File, s.number, err)
		}
		if n > 0 {
			line := lines.Line{Text: text, Start: offset, End: offset + int64(n), Received: record.StampOf(time.Now()), Cut: cut}
			offset += int64(n)
			s.addLine(&out, maker, &line)
		}
		if err == io.EOF {
			maker.Flush(&out)
		}
		if err := s.pass(&out, err == io.EOF); err != nil {
			return err
		}
		if p := s.options.Progress; p != nil && time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			p(c.at(), c.size, s.result.Records)
		}
		if err == io.EOF {
			return nil
		}
	}
}

// readLine reads a line without its end, and how many bytes it took. The text
// is valid until the next call.
func readLine(in *bufio.Reader) (text []byte, cut bool, n int, err error) {
	text, err = in.ReadSlice('\n')
	n = len(text)
	if err == bufio.ErrBufferFull {
		text, cut = append([]byte{}, text...), true
		for err == bufio.ErrBufferFull {
			var rest []byte
			rest, err = in.ReadSlice('\n')
			n += len(rest)
		}
	}
	for len(text) > 0 && (text[len(text)-1] == '\n' || text[len(text)-1] == '\r') {
		text = text[:len(text)-1]
	}
	return text, cut, n, err
}

func (s *sender) addLine(out *lines.Out, maker *lines.Maker, line *lines.Line) {
	if !s.options.Records {
		maker.Add(out, line)
		return
	}
	if len(line.Text) == 0 {
		return
	}
	r := out.Batch.Next()
	if err := r.ParseJSON(line.Text); err != nil {
		r.Reset()
		r.Priority, r.Text, r.Unparsed = s.options.Lines.Default, line.Text, true
		out.Fell.Form++
	}
	if r.Received.IsZero() {
		r.Received = line.Received
	}
	if r.Time.IsZero() {
		r.Time = r.Received
		out.Fell.Time++
	}
}

// pass adds what was made to the block under way, and hands it on where it is full.
func (s *sender) pass(out *lines.Out, end bool) error {
	for i := range out.Batch.Records {
		s.number++
		s.result.Records++
		if s.number <= s.confirmed {
			s.result.Already++
			continue
		}
		if s.first == 0 {
			s.first = s.number
		}
		r := &out.Batch.Records[i]
		if s.options.Events && !r.Unparsed {
			r.Raw = nil // its fields have all of it
		}
		s.builder.Add(s.number, r)
		s.minutes[r.Time.Sec/60] = true
	}
	s.result.Fell = out.Fell
	out.Reset()
	if s.first == 0 || !end && s.builder.Len() < mostRecords && s.builder.Size() < mostBytes && len(s.minutes) < mostMinutes {
		return s.ctx.Err()
	}
	b := batch{first: s.first, last: s.number, payload: s.builder.Finish(nil)}
	s.first = 0
	clear(s.minutes)
	select {
	case s.batches <- b:
		return nil
	case <-s.ctx.Done():
		return s.ctx.Err()
	}
}

// send sends the blocks in their order. After a failure it takes them and sends nothing.
func (s *sender) send() (failed error) {
	for b := range s.batches {
		if failed == nil {
			failed = s.sendOne(b)
		}
	}
	return failed
}

func (s *sender) sendOne(b batch) error {
	hash := sha256.Sum256(b.payload)
	head := client.BatchHead{Generation: client.Imported, Numbers: spool.Numbers{First: b.first, Last: b.last}, Hash: hex.EncodeToString(hash[:])}
	_, err := retry(s.ctx, func() (uint64, error) {
		answer, err := s.options.Service.SendBatch(s.ctx, s.id, Outlet, s.options.Cask, head, b.payload)
		return answer.Confirmed, err
	})
	return err
}

// retry asks again where the service cannot answer now, less and less often.
func retry(ctx context.Context, ask func() (uint64, error)) (n uint64, err error) {
	const tries = 8
	for wait := 250 * time.Millisecond; ; wait *= 2 {
		n, err = ask()
		var later *client.RetryLater
		if !errors.As(err, &later) || wait > 250*time.Millisecond<<tries {
			return n, err
		}
		select {
		case <-time.After(max(wait, later.After)):
		case <-ctx.Done():
			return n, ctx.Err()
		}
	}
}
