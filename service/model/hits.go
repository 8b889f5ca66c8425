package model

import (
	"encoding/binary"
	"errors"
	"math"
)

// Hit is what a batch says to an alert of one who.
type Hit struct {
	AlertID     uint64
	Number      int // of the alert as it was
	Who         string
	First, Last int64 // slots
	Count, Also int64 // records, and of them those that are too many
	Value       float64
	Shape       *NewShape // of alerts that ask for new ones
}

// NewShape is a shape of which a batch brings the first record, as far as its shelf knows.
type NewShape struct {
	CaskID, Key uint64
	Began       int64 // the least time of its records, in microseconds since 1970
}

// PackHits writes hits: numbers as varints, a value as its 8 bytes, and whether there is a shape.
func PackHits(hits []Hit) (packed []byte) {
	for _, h := range hits {
		packed = binary.AppendUvarint(packed, h.AlertID)
		packed = binary.AppendUvarint(packed, uint64(h.Number))
		packed = append(binary.AppendUvarint(packed, uint64(len(h.Who))), h.Who...)
		packed = binary.AppendVarint(packed, h.First)
		packed = binary.AppendUvarint(packed, uint64(h.Last-h.First))
		packed = binary.AppendUvarint(packed, uint64(h.Count))
		packed = binary.AppendUvarint(packed, uint64(h.Also))
		packed = binary.LittleEndian.AppendUint64(packed, math.Float64bits(h.Value))
		if h.Shape == nil {
			packed = append(packed, 0)
			continue
		}
		packed = binary.AppendUvarint(append(packed, 1), h.Shape.CaskID)
		packed = binary.LittleEndian.AppendUint64(packed, h.Shape.Key)
		packed = binary.AppendVarint(packed, h.Shape.Began)
	}
	return packed
}

var errHits = errors.New("what batches have said to alerts cannot be read")

// OpenHits reads what PackHits wrote.
func OpenHits(packed []byte) (hits []Hit, err error) {
	r := hitReader{left: packed}
	for len(r.left) > 0 && !r.bad {
		h := Hit{AlertID: r.number(), Number: int(r.number()), Who: string(r.bytes(r.number())), First: r.signed()}
		h.Last, h.Count, h.Also = h.First+int64(r.number()), int64(r.number()), int64(r.number())
		h.Value = math.Float64frombits(r.eight())
		if of := r.bytes(1); !r.bad && of[0] == 1 {
			h.Shape = &NewShape{CaskID: r.number(), Key: r.eight(), Began: r.signed()}
		}
		hits = append(hits, h)
	}
	if r.bad {
		return nil, errHits
	}
	return hits, nil
}

// hitReader reads until something is not there.
type hitReader struct {
	left []byte
	bad  bool
}

func (r *hitReader) take(n int) {
	if n <= 0 {
		r.bad, r.left = true, nil
		return
	}
	r.left = r.left[n:]
}

func (r *hitReader) number() uint64 {
	v, n := binary.Uvarint(r.left)
	r.take(n)
	return v
}

func (r *hitReader) signed() int64 {
	v, n := binary.Varint(r.left)
	r.take(n)
	return v
}

func (r *hitReader) bytes(n uint64) []byte {
	if n > uint64(len(r.left)) {
		r.bad, r.left = true, nil
		return nil
	}
	v := r.left[:n]
	r.left = r.left[n:]
	return v
}

func (r *hitReader) eight() uint64 {
	v := r.bytes(8)
	if r.bad {
		return 0
	}
	return binary.LittleEndian.Uint64(v)
}
