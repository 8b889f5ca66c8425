package agent

import (
	"bytes"

	"oakbarrel/core/record"
)

// claimElement marks a record that claims to be of the kernel and did not come
// from it, by a field of this name.
const claimElement = "claimed@32473"

var (
	kernLabels = []record.Label{{Name: "facility", Value: record.Kern.String()}}
	kernClaim  = record.AppendLabels(nil, nil, claimElement, kernLabels, false)
)

// markClaims marks the records of the facility kern, unless the kernel sent them.
func markClaims(b *record.Batch, from endpoint) {
	if _, ok := from.(*kernelEndpoint); ok {
		return
	}
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
}
