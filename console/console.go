// Package console embeds the pages of the console, which `make console` builds.
package console

import "embed"

// Files holds the pages under dist/.
//
//go:embed all:dist
var Files embed.FS
