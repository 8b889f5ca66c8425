package roll

import (
	"bufio"
	"cmp"
	"compress/gzip"
	"context"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/disk"
)

// Compression is how closed pieces are compressed.
type Compression string

// The compressions.
const (
	NoCompression Compression = "none"
	Zstd          Compression = "zstd" // RFC 8878
	Gzip          Compression = "gzip" // RFC 1952
)

// Compressions lists what the plan may say.
var Compressions = []string{"zstd", "gzip", "none"}

// compressor is one kind of compression.
type compressor struct {
	kind   Compression
	suffix string
	most   int // the highest level; the lowest is 1
	writer func(w io.Writer, level int) (io.WriteCloser, error)
	reader func(r io.Reader) (io.ReadCloser, error)
}

// zstdWindow is how far back what comes again is looked for, in bytes: a writer
// takes twice as much memory, while it compresses.
const zstdWindow = 2 << 20

var compressions = []compressor{
	{Zstd, ".zst", 22, func(w io.Writer, level int) (io.WriteCloser, error) {
		return zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.EncoderLevelFromZstd(cmp.Or(level, 3))), zstd.WithWindowSize(zstdWindow))
	}, func(r io.Reader) (io.ReadCloser, error) {
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	}},
	{Gzip, ".gz", 9, func(w io.Writer, level int) (io.WriteCloser, error) { return gzip.NewWriterLevel(w, cmp.Or(level, 6)) },
		func(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) }},
}

// partSuffix ends the name of a file that is not yet whole.
const partSuffix = ".part"

// partName is where a compressed piece is written before it takes its name. It
// begins with a dot, so that no pattern for log files matches it.
func partName(piece string) string {
	return filepath.Join(filepath.Dir(piece), "."+filepath.Base(piece)+partSuffix)
}

// MostLevel returns the highest level of a compression, 0 where it has none.
func (c Compression) MostLevel() int {
	if c == NoCompression {
		return 0
	}
	return compressorOf(c).most
}

func compressorOf(kind Compression) compressor {
	return compressions[slices.IndexFunc(compressions, func(c compressor) bool { return c.kind == kind })]
}

// writeCompressed writes a compressed copy of a file, which is no piece yet: a
// kill at any moment leaves the piece, its whole copy, or both; what is not
// whole never has the name of a piece.
func writeCompressed(ctx context.Context, d disk.Disk, from, to string, c compressor, level int) (size int64, err error) {
	in, err := disk.OpenRead(from)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		return 0, err
	}
	out, err := d.Create(to, st.Mode().Perm())
	if err != nil {
		return 0, err
	}
	defer func() {
		if e := out.Close(); err == nil {
			err = e
		}
		if err != nil {
			d.Remove(to)
		}
	}()
	buffer := bufio.NewWriterSize(out, 256<<10)
	if err = disk.OwnerOf(st).Give(out); err != nil {
		return 0, err
	}
	w, err := c.writer(buffer, level)
	if err != nil {
		return 0, err
	}
	if _, err = io.CopyBuffer(struct{ io.Writer }{w}, stopping{ctx, in}, make([]byte, 256<<10)); err != nil {
		return 0, err
	}
	if err = w.Close(); err != nil {
		return 0, err
	}
	if err = buffer.Flush(); err != nil {
		return 0, err
	}
	if err = out.Sync(); err != nil {
		return 0, err
	}
	if err = d.SetTime(to, st.ModTime()); err != nil { // which is when the piece ended
		return 0, err
	}
	st, err = out.Stat()
	if err != nil {
		return 0, err
	}
	return st.Size(), nil
}

// stopping is a reader that ends with an error when its context does.
type stopping struct {
	ctx context.Context
	r   io.Reader
}

func (s stopping) Read(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.r.Read(b)
}

// Open opens a live file or a piece for reading, decompressed as its name says.
func Open(path string) (io.ReadCloser, error) {
	f, err := disk.OpenRead(path)
	if err != nil {
		return nil, err
	}
	return Decompress(f, path)
}

// Sniff tells by the first bytes of a file how it is compressed; other names a
// compression that is not read, "" for none.
func Sniff(b []byte) (kind Compression, other string) {
	begins := func(magic string) bool { return len(b) >= len(magic) && string(b[:len(magic)]) == magic }
	switch {
	case begins("\x1f\x8b\x08"):
		return Gzip, ""
	case begins("\x28\xb5\x2f\xfd"), len(b) >= 4 && b[0]&0xf0 == 0x50 && string(b[1:4]) == "\x2a\x4d\x18": // or a frame to pass over
		return Zstd, ""
	case begins("\xfd7zXZ\x00"):
		return NoCompression, "xz"
	case begins("BZh") && len(b) >= 10 && string(b[4:10]) == "1AY&SY":
		return NoCompression, "bzip2"
	case begins("\x04\x22\x4d\x18"):
		return NoCompression, "lz4"
	}
	return NoCompression, ""
}

// MayBePacked tells whether what stands in a file so far is too short to tell
// whether it is compressed, and may be the beginning of that.
func MayBePacked(b []byte) bool {
	for _, magic := range []string{"\x1f\x8b\x08", "\x28\xb5\x2f\xfd", "\xfd7zXZ\x00", "\x04\x22\x4d\x18"} {
		if len(b) > 0 && len(b) < len(magic) && magic[:len(b)] == string(b) {
			return true
		}
	}
	return false
}

// Decompress reads a file as the name at path says. Closing the reader closes the file.
func Decompress(f *disk.Handle, path string) (io.ReadCloser, error) {
	suffix := suffixOf(path)
	for _, c := range compressions {
		if c.suffix == suffix {
			return DecompressAs(f, c.kind)
		}
	}
	return f, nil
}

// DecompressAs reads a file that is compressed in a way. Closing the reader closes the file.
func DecompressAs(f *disk.Handle, kind Compression) (io.ReadCloser, error) {
	for _, c := range compressions {
		if c.kind == kind {
			r, err := c.reader(bufio.NewReaderSize(f, 256<<10))
			if err != nil {
				f.Close()
				return nil, &fs.PathError{Op: "decompress", Path: f.Name(), Err: err}
			}
			return &decompressed{r, f}, nil
		}
	}
	return f, nil
}

type decompressed struct {
	io.ReadCloser
	f *disk.Handle
}

func (d *decompressed) Close() error {
	d.ReadCloser.Close()
	return d.f.Close()
}

// cleanUp removes what a kill left in the middle of compressing: parts, and
// pieces of which there is a whole compressed copy. It returns the pieces that remain.
func cleanUp(d disk.Disk, live string, counted bool) ([]Piece, error) {
	dir := filepath.Dir(live)
	hidden, err := filepath.Glob(filepath.Join(escapeGlob(dir), ".*"+partSuffix))
	if err != nil {
		return nil, err
	}
	for _, path := range hidden {
		name := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(path), "."), partSuffix)
		if _, ok := parsePiece(live, filepath.Join(dir, name)); ok {
			if err := d.Remove(path); err != nil {
				return nil, err
			}
		}
	}
	listed, err := list(live, counted)
	if err != nil {
		return nil, err
	}
	var pieces []Piece
	for _, p := range listed { // a plain piece comes before its compressed copy
		if n := len(pieces); n > 0 && pieces[n-1].before(p) == 0 {
			if err := d.Remove(pieces[n-1].Path); err != nil {
				return nil, err
			}
			pieces = pieces[:n-1]
		}
		pieces = append(pieces, p)
	}
	return pieces, nil
}

// escapeGlob makes a path stand for itself in a pattern.
func escapeGlob(path string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}
