package condition_test

import (
	"fmt"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

func ExampleParse() {
	c, err := condition.Parse(`severity at least warning and app is pumpd`, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	r := record.Record{Priority: record.MakePriority(record.Local0, record.Error), App: []byte("pumpd")}
	fmt.Println(c.Match(&r))
	fmt.Println(c.Explain(&r))

	_, err = condition.Parse(`severity at least warnign`, nil)
	fmt.Println(err)
	// Output:
	// true
	// true severity at least warning: severity is error; app is "pumpd"
	// 'warnign' is not a severity; did you mean warning?
}
