//go:build !faults

package agent

// boundary is called where a fault could cross from one part into another. Tests
// throw panics there.
var boundary = func(name string) {}
