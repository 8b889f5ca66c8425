//go:build darwin || freebsd

package cli

import "github.com/spf13/cobra"

// isNoAgent never holds: no agent is asked.
func isNoAgent(error) bool { return false }

// commandsHere are those of agents and services, which do not run on this system.
func (a *app) commandsHere() []*cobra.Command { return nil }
