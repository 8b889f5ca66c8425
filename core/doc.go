// Package core holds nothing but the rules of its folder: what is below it computes,
// without HTTP, database, terminal or console, and what it wants of the machine it
// has by core/disk. Tests keep the rules.
package core
