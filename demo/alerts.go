package demo

import (
	"embed"
	"os"
	"path/filepath"
)

//go:embed alerts
var alertFiles embed.FS

// setAlerts tells the store where the person on duty is told, which is another address at every
// start, and has it ask, where it does not yet. The alerts lie in a folder beside the plans, to be
// changed there.
func (s *store) setAlerts(o Options) error {
	if _, err := s.command(o.Binary, "receiver", "set", "duty", "--webhook-file", dutyFile(o.Dir)); err != nil {
		return err
	}
	folder := filepath.Join(fleetDir(o.Dir), "alerts")
	if _, err := os.Stat(folder); err == nil {
		return nil
	}
	all, err := alertFiles.ReadDir("alerts")
	if err != nil {
		return err
	}
	for _, e := range all {
		text, err := alertFiles.ReadFile("alerts/" + e.Name())
		if err != nil {
			return err
		}
		file := filepath.Join(s.dir, e.Name())
		if err := os.WriteFile(file, text, 0o644); err != nil {
			return err
		}
		if _, err := s.command(o.Binary, "alert", "set", file); err != nil {
			return err
		}
	}
	_, err = s.command(o.Binary, "alert", "pull", fleetDir(o.Dir))
	return err
}
