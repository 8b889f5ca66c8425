package route

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
)

func TestAnAppIndexFindsWhatAMapFinds(t *testing.T) {
	byApp := map[string][]int32{}
	for i := range 500 {
		byApp[fmt.Sprintf("%.*s%d", i%20, "salinity-probe-of-tank", i)] = []int32{int32(i)}
	}
	byApp[""], byApp["a"], byApp["ab"], byApp["abc"], byApp[strings.Repeat("x", 48)] = []int32{1}, []int32{2}, []int32{3}, []int32{4}, []int32{5}
	x := newAppIndex(byApp)
	for app := range byApp {
		for _, name := range []string{app, app + "x", "x" + app, strings.ToUpper(app)} {
			if got := x.rules([]byte(name)); !reflect.DeepEqual(got, byApp[name]) {
				t.Errorf("%q: %v, want %v", name, got, byApp[name])
			}
		}
	}
	if none := newAppIndex(nil); none.rules([]byte("pumpd")) != nil {
		t.Error("an empty index finds something")
	}
	one := newAppIndex(map[string][]int32{"pumpd": {7}})
	if one.rules([]byte("pumpd")) == nil || one.rules([]byte("ticketd")) != nil {
		t.Error("an index of one is wrong")
	}
}
