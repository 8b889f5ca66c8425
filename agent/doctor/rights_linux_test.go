package doctor

import (
	"testing"

	"oakbarrel/core/plan"
)

// A low port of the figures takes the right that one of an intake takes, however its
// address is written.
func TestLowPortsTakeARight(t *testing.T) {
	for address, wants := range map[string]bool{"": false, ":443": true, "localhost:80": true, "127.0.0.1:1023": true, "[::1]:443": true, ":1024": false, "127.0.0.1:9440": false, "127.0.0.1:0": false} {
		r := rightsOf(&plan.Plan{Metrics: plan.Metrics{Listen: address}}, &Account{})
		if _, has := r.capabilities["CAP_NET_BIND_SERVICE"]; has != wants {
			t.Errorf("%q: %v", address, r.capabilities)
		}
	}
}
