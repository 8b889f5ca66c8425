package intake

import (
	"bytes"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// claimElement routing a record that claims to be of the kernel and did not come
// from it, by a field of this name.
const claimElement = "claimed@32473"

var (
	kernLabels = []record.Label{{Name: "facility", Value: record.Kern.String()}}
	kernClaim  = record.AppendLabels(nil, nil, claimElement, kernLabels, false)
)

// pass passes on what did not come from the kernel: records that claim to be of
// its facility are marked.
func (a *Agent) pass(b *record.Batch, routing *route.Routing, from Endpoint, canWait bool) bool {
	for i := range b.Records {
		r := &b.Records[i]
		switch {
		case r.Facility() != record.Kern:
		case len(r.Data) == 0:
			r.SetData(kernClaim)
		case !bytes.Contains(r.Data, []byte(claimElement)): // another agent may have marked it
			r.SetData(record.AppendLabels(nil, r.Data, claimElement, kernLabels, false))
		}
	}
	return a.Pass(b, routing, from, canWait)
}
