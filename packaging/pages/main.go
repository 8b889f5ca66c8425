// Command pages writes the man pages and the completions of the command into a folder, for
// packages: man/*.1, bash, zsh and fish.
package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"oakbarrel/cli"
	"oakbarrel/client"
)

func main() {
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(dir string) error {
	root := cli.Root(io.Discard, io.Discard)
	root.DisableAutoGenTag = true
	man := filepath.Join(dir, "man")
	if err := os.MkdirAll(man, 0o755); err != nil {
		return err
	}
	head := &doc.GenManHeader{Title: "OAKBARREL", Section: "1", Source: "oakbarrel " + client.ThisVersion().Version, Manual: "Oak Barrel"}
	if err := doc.GenManTree(root, head, man); err != nil {
		return err
	}
	for name, generate := range map[string]func(*cobra.Command, io.Writer) error{
		"bash": func(c *cobra.Command, w io.Writer) error { return c.GenBashCompletionV2(w, true) },
		"zsh":  func(c *cobra.Command, w io.Writer) error { return c.GenZshCompletion(w) },
		"fish": func(c *cobra.Command, w io.Writer) error { return c.GenFishCompletion(w, true) },
	} {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		if err := generate(root, f); err != nil {
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	return nil
}
