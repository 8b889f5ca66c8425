package plan_test

import (
	"fmt"

	"oakbarrel/core/plan"
)

func ExampleParse() {
	_, findings := plan.Parse("plan.yaml", []byte(`oakbarrel: 1
otherwise: {send: [everything]}
outlets:
  everything:
    file: {path: /var/log/lantern/all.log, roll: {size: midnight}, keep: {pieces: 20}}
`))
	for _, f := range findings {
		fmt.Println(f)
	}
	// Output:
	// plan.yaml:5:57: "midnight" is a time, not a size; write every: day
}
