package delay

import (
	"testing"
	"time"
)

func TestWhatTookHowLong(t *testing.T) {
	var h Histogram
	for _, took := range []time.Duration{-time.Hour, 0, time.Millisecond, 2 * time.Millisecond, 400 * time.Millisecond, 48 * time.Hour} {
		h.Observe(took)
	}
	s := h.Seen()
	if s.Count != 6 || s.Seconds != 48*3600+0.403 {
		t.Errorf("%+v", s)
	}
	want := map[float64]int64{0.001: 3, 0.005: 4, 0.25: 4, 0.5: 5, 86400: 5}
	last := int64(0)
	for _, b := range s.Within {
		if n, told := want[b.Seconds]; told && b.Count != n {
			t.Errorf("%d took at most %gs, want %d", b.Count, b.Seconds, n)
		}
		if b.Count < last {
			t.Errorf("%d took at most %gs, and %d less", b.Count, b.Seconds, last)
		}
		last = b.Count
	}
	if n := testing.AllocsPerRun(100, func() { h.Observe(time.Second) }); n != 0 {
		t.Errorf("observing allocates %v times", n)
	}
}
