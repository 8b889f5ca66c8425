package limit

import "testing"

const second = int64(1e9)

func TestABucketHoldsABurstAndFillsAtItsRate(t *testing.T) {
	r := Rate{PerSecond: 2, Burst: 5}
	var b Bucket
	count := func(now int64) (n int) {
		for b.Take(r, now) {
			n++
		}
		return n
	}
	for i, c := range []struct {
		now  int64
		want int
	}{{100 * second, 5}, {100 * second, 0}, {101 * second, 2}, {101*second + second/4, 0}, {101*second + second/2, 1}, {50 * second, 0}, {200 * second, 5}} {
		if got := count(c.now); got != c.want {
			t.Errorf("step %d: %d may come, want %d", i, got, c.want)
		}
	}
}

func TestEachKeyHasABucketOfItsOwn(t *testing.T) {
	k := Keyed[string]{Rate: Rate{PerSecond: 1, Burst: 2}}
	now := 100 * second
	for _, want := range []bool{true, true, false} {
		if k.Take("a", now) != want || k.Take("b", now) != want {
			t.Error("the keys disturb each other")
		}
	}
	for s := range int64(20) { // a loud one stays known for as long as it is loud
		k.Take("c", now+s*second/4)
		if k.Take("a", now+s*second/4); k.Take("a", now+s*second/4) && s%4 != 0 && s > 8 {
			t.Errorf("after %d quarters more than the rate may come", s)
		}
	}
	for i := range 3 * mostKeys {
		k.Take(string(rune(i))+"x", now)
	}
	if len(k.newer)+len(k.older) > 2*mostKeys {
		t.Errorf("%d keys are kept", len(k.newer)+len(k.older))
	}
}
