// Package core holds nothing but the rule of its folder: what is below it
// computes, without HTTP, database, terminal or console. A test keeps the rule.
package core
