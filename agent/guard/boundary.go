//go:build !faults

package guard

// Boundary is called where a fault could cross from one part into another. Tests
// throw panics there.
var Boundary = func(name string) {}
