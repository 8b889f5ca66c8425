// Package block packs records for the road and the store. The properties of many
// records are held apart in columns, so that like stands by like; texts are held by
// their shapes, with the numbers and ids of each text beside it; and zstd goes over
// that.
//
// A block is made once, on the host, by a [Builder]. The store keeps it as it came and
// trusts nothing in it: [Open] and what follows check each column before it is used.
// [Words] are a filter of the words in a block, by which a search passes blocks over
// that cannot have what it looks for.
//
// A Builder and a [Block] are for one goroutine each. The package knows records and
// nothing else of the project.
package block

import (
	"errors"
	"fmt"

	"oakbarrel/core/record"
)

// The first byte of a block's body. Older ones are read still: of the first
// version, in which texts were plain, and the second, in which times were
// seconds and nanoseconds.
const (
	version      = 3
	firstVersion = 1
)

// Limits of a block, so that none can cost more than it says.
const (
	MaxRecords = 1 << 20
	MaxBody    = 64 << 20 // bytes, uncompressed
	MaxText    = 1 << 20  // bytes of a text, or of structured data, that a store takes
	MaxMinutes = 1000     // that a block for a store may span: each is counted in a row
)

// The columns of a body, in their order. Each is its length and its bytes.
const (
	numbers    = iota // less the number before and 1
	times             // as stamps.go says
	zones             // of times
	receipts          // as times
	priorities        // a byte each
	flags             // a byte each: stream, unparsed, cut
	words             // the list that the next six point into
	hosts             // 0 for missing, else the place in the list and 1
	apps
	procIDs
	msgIDs
	intakes
	peers
	texts     // how they are held, and lengths: 0 for missing, else the length and 1
	textBytes // and the bytes, end to end; or as shapes
	data
	dataBytes
	raws
	rawBytes
	receiptZones // of receipts
	columns      // how many there are
)

const (
	flagUnparsed = 1 << 2
	flagCut      = 1 << 3
)

// ErrDamaged says that bytes are not a block that a Builder made.
var ErrDamaged = errors.New("the block is damaged")

func damaged(what string) error { return fmt.Errorf("%w: %s", ErrDamaged, what) }

// Header is what a block holds, as its records tell.
type Header struct {
	Records                     int
	FirstNumber, LastNumber     uint64
	FirstTime, LastTime         record.Stamp // the least and the greatest, at the offset sent
	FirstReceived, LastReceived record.Stamp
	Severities                  uint8  // a bit for each
	Facilities                  uint32 // a bit for each
	BodySize                    int    // bytes, uncompressed
	BySeverity                  [8]int // records
}

// Header returns what the records of a decoded block show.
func (b *Block) Header() Header { return b.header }
