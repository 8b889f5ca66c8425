package intake

import "oakbarrel/core/plan"

// openHere opens what this system alone has.
func (a *Agent) openHere(key Key, in *plan.Intake) (Endpoint, error) {
	if key.Network == Events {
		return a.openEvents(in, windowsLog{})
	}
	panic("an intake of no known kind has come through the plan's checks")
}
