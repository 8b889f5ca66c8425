package ingest

import (
	"slices"
	"testing"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
)

// packedValues are the values of a few records, and how many groups they are of.
func packedValues(t testing.TB) ([]byte, int) {
	t.Helper()
	var b block.Builder
	for i, r := range []record.Record{
		{Host: []byte("reef-02"), Data: []byte(`{"tank":{"ph":8.1,"id":"T1"},"list":[1]}`), MsgID: []byte("M1")},
		{Host: []byte("kelp-01"), Data: []byte(`[tank@32473 ph="8.1"]`), Intake: "wire"},
		{Host: []byte("kelp-01"), Data: []byte(`{"tank":{"ph":8.1}}`)},
	} {
		b.Add(uint64(i+1), &r)
	}
	packed, err := DescribeValues(b.Finish(nil))
	if err != nil {
		t.Fatal(err)
	}
	return packed, 2
}

func TestValuesBesideABlockAreReadAgain(t *testing.T) {
	packed, groups := packedValues(t)
	v, told, err := OpenValues(packed, groups)
	if err != nil || !told {
		t.Fatal(told, err)
	}
	var got []string
	var walk func(at string, f FieldCounts)
	walk = func(at string, f FieldCounts) {
		if f.Told == block.Untold {
			got = append(got, at+" untold")
		}
		f.Each(func(value []byte, group int, count int64) {
			got = append(got, at+" "+string(value)+" "+string(rune('a'+group))+string(rune('0'+count)))
		})
		f.Below(func(below FieldCounts) bool { walk(at+"/"+string(below.Name), below); return true })
	}
	walk("", v.Fields)
	walk("msgid", v.MsgID)
	walk("intake", v.Intake)
	want := []string{"/tank untold", "/tank/ph 8.1 a1", "/tank/ph 8.1 b1", "/tank/id T1 a1", "/list untold", "/tank@32473 untold", "/tank@32473/ph 8.1 b1", "msgid M1 a1", "intake wire b1"}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	for n := range packed {
		if _, told, err := OpenValues(packed[:n], groups); told && err == nil {
			t.Errorf("of %d bytes the first %d are enough", len(packed), n)
		}
	}
	if _, _, err := OpenValues(packed, groups+1); err == nil {
		t.Error("values of other groups are taken")
	}
}

// Whatever stands beside a block, reading it ends, and names no group that there is none of.
func FuzzValuesBesideABlock(f *testing.F) {
	packed, groups := packedValues(f)
	f.Add(packed, groups)
	f.Add([]byte{1, 2, 3, 0, 0, 0}, 2)
	f.Fuzz(func(t *testing.T, packed []byte, groups int) {
		if groups < 1 || groups > 5000 {
			return
		}
		v, told, err := OpenValues(packed, groups)
		if err != nil || !told {
			return
		}
		var walk func(FieldCounts)
		walk = func(f FieldCounts) {
			f.Each(func(value []byte, group int, _ int64) {
				if group < 0 || group >= groups {
					t.Fatal(group)
				}
			})
			f.Below(func(below FieldCounts) bool { walk(below); return true })
		}
		walk(v.Fields)
	})
}
