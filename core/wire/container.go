package wire

import (
	"bytes"

	"oakbarrel/core/record"
)

// Wrapped is a line of a container's log: what the program wrote, and what the
// engine says of it.
type Wrapped struct {
	Text   []byte // without its end mark
	Stream record.Stream
	Time   record.Stamp
	Part   bool // the program's line goes on in the next of the same stream
}

// Unwrapper reads the lines of containers' logs. It is for one goroutine at a time.
type Unwrapper struct {
	tree   record.Tree
	stamps record.StampReader
}

var (
	logKey    = []byte("log")
	streamKey = []byte("stream")
	timeKey   = []byte("time")
)

// Docker reads {"log":"text\n","stream":"stdout","time":"…"}. Only a line feed
// at the end of log ends a line. It returns false where b is no such line. The
// text is valid until the next call.
func (u *Unwrapper) Docker(b []byte) (w Wrapped, ok bool) {
	if u.tree.ParseJSON(b) != nil {
		return Wrapped{Text: b}, false
	}
	root := u.tree.Root()
	text := root.Get(logKey)
	if text.Kind() != record.String {
		return Wrapped{Text: b}, false
	}
	whole := false
	if w.Text, whole = bytes.CutSuffix(text.Text(), []byte{'\n'}); whole {
		w.Text = bytes.TrimSuffix(w.Text, []byte{'\r'}) // of a terminal
	}
	w.Part = !whole
	w.Stream = streamOf(root.Get(streamKey).Text())
	w.Time, _, _ = u.stamps.Read(root.Get(timeKey).Text())
	return w, true
}

func streamOf(name []byte) record.Stream {
	switch string(name) {
	case "stdout":
		return record.Stdout
	case "stderr":
		return record.Stderr
	}
	return record.NoStream
}

// CRI reads "TIME STREAM TAGS TEXT", where the first of the tags, parted by
// colons, is P for a part and F for a whole line or its last part. It returns
// false where b is no such line. The text points into b.
func (u *Unwrapper) CRI(b []byte) (w Wrapped, ok bool) {
	at, n := token(b)
	stamp, size, valid := u.stamps.Read(at)
	stream, m := token(b[n:])
	rest := b[n+m:]
	tags, text, _ := bytes.Cut(rest, []byte{' '})
	first, _, _ := bytes.Cut(tags, []byte{':'})
	w = Wrapped{Text: text, Stream: streamOf(stream), Time: stamp, Part: string(first) == "P"}
	if !valid || size != len(at) || m == 0 || w.Stream == record.NoStream || !w.Part && string(first) != "F" {
		return Wrapped{Text: b}, false
	}
	return w, true
}
