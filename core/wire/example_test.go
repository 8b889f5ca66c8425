package wire_test

import (
	"fmt"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

func ExampleParser_Parse() {
	p := wire.Parser{Zone: time.UTC, Default: record.DefaultPriority}
	r := record.Record{Received: record.StampOf(time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC))}
	p.Parse(&r, []byte("<155>Nov 25 09:59:58 reef-02 pumpd[412]: pump P07 stalled"))
	r.Received = record.Stamp{}
	fmt.Printf("%s\n", r.AppendJSON(nil))
	fmt.Printf("%s\n", wire.AppendRFC5424(nil, &r))
	// Output:
	// {"time":"2026-11-25T09:59:58Z","facility":"local3","severity":"error","host":"reef-02","app":"pumpd","procid":"412","text":"pump P07 stalled"}
	// <155>1 2026-11-25T09:59:58Z reef-02 pumpd 412 - - pump P07 stalled
}
