// Package guard keeps a fault of one part of the service from ending the others.
package guard

import (
	"fmt"
	"runtime/debug"
)

// Run does something, and makes an error of a panic.
func Run(do func() error) (err error) {
	defer func() {
		if what := recover(); what != nil {
			err = fmt.Errorf("a fault of the service: %v at %s", what, debug.Stack())
		}
	}()
	return do()
}
