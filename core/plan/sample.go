package plan

import (
	"strings"

	"oakbarrel/core/decode"
	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// Tried is a form that a text was tried as.
type Tried struct {
	Form string `json:"form"`
	Fits bool   `json:"fits"`
}

// Sample reads a message, or a line, as the intake with a name does, as a syslog message
// where there is none of the name; and tells which of its forms were tried. The slices of
// the record are its own or the message's.
func (p *Plan) Sample(intake string, message []byte, received record.Stamp) (r *record.Record, tried []Tried) {
	r = &record.Record{Received: received, Intake: intake}
	for _, in := range p.Intakes {
		if !strings.EqualFold(in.Name, intake) {
			continue
		}
		r.Intake = in.Name
		if s := in.Lines(); s != nil {
			return sampleLine(r, s, message)
		}
		s := in.Syslog
		parser := wire.Parser{Zone: s.Reading.Zone, Default: s.Default, Local: s.UDP == "" && s.TCP == "" && s.TLS == ""}
		if in.Kind == OTLPIntake {
			r.Time, r.Priority, r.Text = received, s.Default, message
		} else {
			parser.Parse(r, message)
		}
		return r, try(r, s.Decode, &s.Reading)
	}
	parser := wire.Parser{Default: record.DefaultPriority}
	parser.Parse(r, message)
	return r, []Tried{}
}

// Decode returns the forms that an intake tries the texts of its records as.
func (in *Intake) Decode() []decode.Step {
	if s := in.Lines(); s != nil {
		return s.Decode
	}
	return in.Syslog.Decode
}

// Default returns the priority of records that say none.
func (in *Intake) Default() record.Priority {
	if s := in.Lines(); s != nil {
		return s.Default
	}
	return in.Syslog.Default
}

// Lines returns how the lines of an intake are read, nil where it has none.
func (in *Intake) Lines() *lines.Settings {
	switch {
	case in.Files != nil:
		return &in.Files.Follow.Lines
	case in.Pipes != nil:
		return &in.Pipes.Lines
	}
	return nil
}

func sampleLine(r *record.Record, s *lines.Settings, line []byte) (*record.Record, []Tried) {
	var out lines.Out
	m := lines.NewMaker("", s)
	m.Add(&out, &lines.Line{Text: line, Received: r.Received})
	m.Flush(&out)
	before := record.Record{Received: r.Received, Priority: s.Default, Text: line}
	tried := try(&before, s.Decode, &s.Reading)
	if len(out.Batch.Records) == 0 { // an empty line is none
		return r, tried
	}
	made := &out.Batch.Records[0]
	made.Intake, made.Raw = r.Intake, nil
	return made, tried
}

// try decodes a record, and tells which forms were tried for that.
func try(r *record.Record, steps []decode.Step, reading *decode.Reading) []Tried {
	tried := []Tried{}
	for i := range steps {
		fits := (&decode.Decoder{Reading: reading}).Decode(r, steps[i:i+1])
		if tried = append(tried, Tried{string(steps[i].Form), fits}); fits {
			break
		}
	}
	return tried
}
