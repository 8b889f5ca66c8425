package balance

import "testing"

func TestCheckFindsADifferenceInAnyHop(t *testing.T) {
	closed := func() Account {
		return Account{[]Intake{{Read: 8, Passed: 4, Unreadable: 1, Limited: 3, Missed: 9}, {Read: 2, Passed: 2}}, Rules{In: 6, Routed: 4, Dropped: 2, Limited: 1}, []Outlet{{In: 4, HeldAtStart: 3, Out: 2, Shed: 1, Refused: 1, Held: 3}}}
	}
	if got := closed().Check(); got != (Result{true, 0}) {
		t.Errorf("a closed account gives %+v", got)
	}
	for name, change := range map[string]func(*Account){
		"intake":           func(a *Account) { a.Intakes[0].Read++ },
		"between the hops": func(a *Account) { a.Intakes[0].Read++; a.Intakes[0].Passed++ },
		"rules":            func(a *Account) { a.Rules.Dropped-- },
		"outlet":           func(a *Account) { a.Outlets[0].Held-- },
	} {
		a := closed()
		change(&a)
		if got := a.Check(); got != (Result{false, 1}) {
			t.Errorf("%s: %+v", name, got)
		}
	}
}
