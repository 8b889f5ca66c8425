// Command oakbarrel collects log records on hosts.
package main

import (
	"os"

	"oakbarrel/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
