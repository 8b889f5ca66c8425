package outlet

import (
	"fmt"

	"golang.org/x/sys/windows/registry"
	"golang.org/x/sys/windows/svc/eventlog"

	"oakbarrel/core/plan"
	"oakbarrel/core/record"
)

// eventSources is where the system keeps which source writes into which channel.
const eventSources = `SYSTEM\CurrentControlSet\Services\EventLog\`

// SourceKnown tells why an outlet's source cannot be written as, and how it is made known; nil
// where it can. Without that the system writes into another channel, and without the text.
func SourceKnown(s plan.EventsOutletSettings) error {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, eventSources+s.Channel+`\`+s.Source, registry.QUERY_VALUE)
	if err != nil {
		return fmt.Errorf("the source %s is not known in the channel %s: %w; make it known once, as an administrator in PowerShell: %s", s.Source, s.Channel, err, MakeKnown(s))
	}
	return key.Close()
}

// MakeKnown returns the command that makes a source known.
func MakeKnown(s plan.EventsOutletSettings) string {
	return fmt.Sprintf(`New-EventLog -LogName '%s' -Source '%s' -MessageResourceFile "$env:SystemRoot\System32\EventCreate.exe"`, s.Channel, s.Source)
}

// windowsWriter writes events as a source that the system knows.
type windowsWriter struct{ log *eventlog.Log }

func openEventWriter(s plan.EventsOutletSettings) (eventWriter, error) {
	if err := SourceKnown(s); err != nil {
		return nil, err
	}
	log, err := eventlog.Open(s.Source)
	if err != nil {
		return nil, err
	}
	return windowsWriter{log}, nil
}

func (w windowsWriter) write(severity record.Severity, id uint32, text string) error {
	switch {
	case severity <= record.Error:
		return w.log.Error(id, text)
	case severity == record.Warning:
		return w.log.Warning(id, text)
	}
	return w.log.Info(id, text)
}

func (w windowsWriter) close() { w.log.Close() }
