package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"

	"oakbarrel/client/importer"
	"oakbarrel/core/decode"
	"oakbarrel/core/event"
	"oakbarrel/core/lines"
	"oakbarrel/core/paths"
	"oakbarrel/core/record"
)

// imports is what the flags of import say.
type imports struct {
	*app
	cask, decode, join, host, name, facility, severity, zone string
}

// filesOf returns the files that arguments name: those that are there, and what
// fits the others as patterns. A folder that a pattern finds is passed over.
func filesOf(arguments []string) (files []string, err error) {
	for _, argument := range arguments {
		if _, err := os.Lstat(argument); err == nil || argument == stdin {
			files = append(files, argument)
			continue
		}
		pattern, err := filepath.Abs(argument)
		if err != nil {
			return nil, couldNot(err)
		}
		found := slices.DeleteFunc(paths.Find(pattern), func(path string) bool {
			st, err := os.Stat(path)
			return err != nil || !st.Mode().IsRegular()
		})
		if len(found) == 0 {
			return nil, couldNot(fmt.Errorf("%s: there is no such file, and none fits it as a pattern", argument))
		}
		files = append(files, found...)
	}
	return files, nil
}

func (a *app) importCommand() *cobra.Command {
	m := &imports{app: a}
	c := &cobra.Command{
		Use:   "import --cask NAME FILE...",
		Short: "Bring files that are there already into the central store",
		Long: `Bring files that are there already into the central store: plain ones, and such
that are compressed with gzip or zstd. An import that broke off goes on where it
was, and a file that was imported before, under any name, changes nothing.
A pattern in quotes is one of plans: ** stands for any number of folders.

Lines become records as an intake of files makes them; --decode record reads what
"read --output json" and files of the format json have, and --decode events what
Windows keeps: event files (.evtx), and events as XML. A file named - is standard
input. The store counts the days of its retention from now on. The token of OAKBARREL_TOKEN must be one for importing.`,
		Example: `  oakbarrel import --cask reef /var/log/pumps/pumpd.log* '/srv/pumps/**/*.log.gz'
  oakbarrel import --cask reef --decode '^(?P<time>\S+) (?P<severity>\w+) (?P<text>.*)$' old.log`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, files []string) error { return m.run(c, files) },
	}
	f := c.Flags()
	f.StringVar(&m.cask, "cask", "", "cask to write into")
	f.StringVar(&m.decode, "decode", "", "json, keyvalue, access, syslog, several with commas, events, record, or a regular expression with named groups")
	f.StringVar(&m.join, "join", "none", "indented, none, or a regular expression for first lines")
	f.StringVar(&m.host, "host", "", "the host of lines that name none (default: this machine's name)")
	f.StringVar(&m.name, "app", "", "the program of lines that name none")
	f.StringVar(&m.facility, "facility", "user", "the facility of lines that name none")
	f.StringVar(&m.severity, "severity", "notice", "the severity of lines that name none")
	f.StringVar(&m.zone, "zone", "", "the zone of times that name none, such as Europe/Lisbon (default: this machine's)")
	c.MarkFlagRequired("cask")
	return c
}

func (m *imports) options() (o importer.Options, err error) {
	if !caskName.MatchString(m.cask) {
		return o, usageError("--cask cannot be %q; a name has letters, digits and - _ . and at most 64 of them", m.cask)
	}
	facility, ok := record.ParseFacility(m.facility)
	if !ok {
		return o, usageError("--facility cannot be %q; known are %s", m.facility, strings.Join(record.Facilities[:], ", "))
	}
	severity, ok := record.ParseSeverity(m.severity)
	if !ok {
		return o, usageError("--severity cannot be %q; known are %s", m.severity, strings.Join(record.Severities[:], ", "))
	}
	if m.host == "" {
		m.host, _ = os.Hostname()
	}
	o.Cask = m.cask
	o.Lines = lines.Settings{Default: record.MakePriority(facility, severity), Largest: 64 << 10, Host: []byte(m.host)}
	if m.name != "" {
		o.Lines.App = []byte(m.name)
	}
	if m.zone != "" {
		if o.Lines.Reading.Zone, err = time.LoadLocation(m.zone); err != nil {
			return o, usageError("--zone cannot be %q; write a name such as Europe/Lisbon", m.zone)
		}
	}
	if o.Lines.Join, err = parseJoin(m.join); err != nil {
		return o, err
	}
	switch m.decode {
	case "record":
		o.Records = true
	case "events":
		o.Events = true
		o.Lines.Decode = []decode.Step{{Form: decode.Events}}
		o.Lines.Largest = event.Largest
	default:
		if o.Lines.Decode, err = parseDecode(m.decode); err != nil {
			return o, err
		}
	}
	o.Settings = strings.Join([]string{m.decode, m.join, m.host, m.name, m.facility, m.severity, m.zone}, "\x00")
	return o, nil
}

// parseDecode reads the forms that lines are tried as: one, several with commas, or a
// regular expression with named groups.
func parseDecode(text string) (steps []decode.Step, err error) {
	if strings.Contains(text, "(?P<") {
		re, err := regexp.Compile(text)
		if err != nil {
			return nil, usageError("--decode cannot be read: %v", err)
		}
		return []decode.Step{{Form: decode.Pattern, Pattern: re}}, nil
	}
	if text == "" {
		return nil, nil
	}
	for _, word := range strings.Split(text, ",") {
		form := decode.Form(strings.TrimSpace(word))
		if !slices.Contains([]decode.Form{decode.JSON, decode.KeyValue, decode.Access, decode.Syslog}, form) {
			return nil, usageError("--decode cannot be %q; write json, keyvalue, access, syslog, several with commas, events or record alone, or a regular expression with named groups", text)
		}
		steps = append(steps, decode.Step{Form: form})
	}
	return steps, nil
}

// parseJoin reads how lines are joined: indented, none, or a regular expression for first lines.
func parseJoin(text string) (j lines.Join, err error) {
	switch text {
	case "none":
	case "indented":
		j.Indented = true
	default:
		if j.Starts, err = regexp.Compile(text); err != nil {
			return j, usageError("--join cannot be read: %v", err)
		}
	}
	return j, nil
}

func (m *imports) run(c *cobra.Command, files []string) error {
	o, err := m.options()
	if err != nil {
		return err
	}
	if o.Service, err = storeClient(); err != nil {
		return err
	}
	if files, err = filesOf(files); err != nil {
		return err
	}
	results := []importer.Result{}
	for _, file := range files {
		began := time.Now()
		from, remove := file, func() {}
		if file == stdin {
			if from, remove, err = keepInput(os.Stdin); err != nil {
				return couldNot(err)
			}
		}
		o.Progress = m.showProgress(file)
		r, err := importer.File(c.Context(), from, o)
		remove()
		r.File = file
		if o.Progress != nil {
			fmt.Fprint(m.stderr, "\r\x1b[K")
		}
		results = append(results, r)
		if err != nil {
			var path *fs.PathError
			if errors.As(err, &path) || c.Context().Err() != nil {
				err = couldNot(fmt.Errorf("%w; what was imported stays, and the same command goes on from there", err))
			}
			return storeError(err)
		}
		if !m.json() {
			m.printImported(r, time.Since(began))
		}
	}
	if m.json() {
		return m.printJSON(results)
	}
	return nil
}

// stdin stands for standard input.
const stdin = "-"

// keepInput keeps what comes on standard input in a file, as what stands in it tells
// whether it was imported before. Call remove when it is done with.
func keepInput(from io.Reader) (path string, remove func(), err error) {
	f, err := os.CreateTemp("", "oakbarrel-import-*")
	if err != nil {
		return "", nil, err
	}
	remove = func() { os.Remove(f.Name()) }
	_, err = io.Copy(f, from)
	if err = errors.Join(err, f.Close()); err != nil {
		remove()
	}
	return f.Name(), remove, err
}

// showProgress tells on a terminal how far a file is read.
func (m *imports) showProgress(file string) func(done, size, records int64) {
	out, ok := m.stderr.(*os.File)
	if !ok || !isatty.IsTerminal(out.Fd()) {
		return nil
	}
	const width = 30
	return func(done, bytes, records int64) {
		part := int(done * width / max(1, bytes))
		fmt.Fprintf(out, "\r\x1b[K%s %s%s %3d %% of %s, %s records", record.Visible(file), strings.Repeat("█", part), strings.Repeat("░", width-part), done*100/max(1, bytes), size(bytes), count(records))
	}
}

func (m *imports) printImported(r importer.Result, took time.Duration) {
	fmt.Fprintf(m.stdout, "%s: %s records in %s", record.Visible(r.File), count(r.Records), took.Round(10*time.Millisecond))
	if r.Already > 0 {
		fmt.Fprintf(m.stdout, ", of which %s were there before", count(r.Already))
	}
	fmt.Fprintln(m.stdout)
	for _, f := range []struct {
		n    int64
		what string
	}{{r.Fell.Form, "had not the form that --decode names"}, {r.Fell.Time, "named no time, and have that of the import"}} {
		if f.n > 0 {
			fmt.Fprintf(m.stdout, "  %s of them %s\n", count(f.n), f.what)
		}
	}
}
