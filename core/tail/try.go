package tail

import (
	"log/slog"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
)

// Try reads a file, compressed or not, as a follower with settings would, and
// writes nothing down. It calls each with the records as they come, which are
// valid until it returns.
func Try(s Settings, path string, each func(out *lines.Out)) (lines.Fell, error) {
	content, err := openContent(path)
	if err != nil {
		return lines.Fell{}, err
	}
	f := newFollower(s, trial(each), slog.New(slog.DiscardHandler), time.Now)
	src := &source{Path: path, real: path, settings: &f.settings.Lines, Packed: content.packed(), unpacking: &unpacking{content: content}}
	f.beginStreams(src)
	for src.unpacking != nil { // it is closed at its end
		f.readPacked(src)
	}
	return f.out.Fell, nil
}

// trial is a sink that only shows what comes.
type trial func(out *lines.Out)

func (t trial) Taken(string, int64) []int64 { return nil }
func (t trial) Forget([]string)             {}

func (t trial) Pass(out *lines.Out) bool {
	t(out)
	return true
}

// Find tells which files a follower with settings would find, and why it would
// not read some of them.
func Find(s Settings) (files []File) {
	f := newFollower(s, nil, slog.New(slog.DiscardHandler), time.Now)
	f.watch = newWatcher(true, nil)
	found, reasons, _ := f.find()
	for _, c := range found {
		file := File{Path: c.path, Size: c.stat.Size, State: AtEnd}
		if opened, _, err := disk.OpenRegular(c.real); err != nil {
			file.State, file.Why = NotRead, plainError(err)
		} else {
			opened.Close()
		}
		files = append(files, file)
	}
	return append(files, reasons...)
}
