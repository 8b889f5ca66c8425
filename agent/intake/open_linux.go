package intake

import "oakbarrel/core/plan"

// openHere opens what this system alone has.
func (a *Agent) openHere(key Key, in *plan.Intake) (Endpoint, error) {
	switch key.Network {
	case Unixgram:
		if key.Address == plan.AutoSocket {
			return a.openAutoSocket()
		}
		return a.openUnixgram(key.Address)
	case Unix:
		return a.openUnixStream(key.Address)
	case Kernel:
		return a.openKernel()
	case Journal:
		return a.openJournal(in)
	case Pipe:
		return a.openPipe(key.Address, in)
	}
	panic("an intake of no known kind has come through the plan's checks")
}
