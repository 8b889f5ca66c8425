package roll

import (
	"bufio"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
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

var compressions = []struct {
	kind   Compression
	suffix string
	writer func(w io.Writer) (io.WriteCloser, error)
	reader func(r io.Reader) (io.ReadCloser, error)
}{
	{Zstd, ".zst", func(w io.Writer) (io.WriteCloser, error) {
		return zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
	}, func(r io.Reader) (io.ReadCloser, error) {
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	}},
	{Gzip, ".gz", func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
		func(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) }},
}

// partSuffix ends the name of a file that is not yet whole.
const partSuffix = ".part"

// partName is where a compressed piece is written before it takes its name. It
// begins with a dot, so that no pattern for log files matches it.
func partName(piece string) string {
	return filepath.Join(filepath.Dir(piece), "."+filepath.Base(piece)+partSuffix)
}

// compress writes a compressed copy of piece and then removes the piece. A
// kill at any moment leaves the piece, its whole copy, or both; what is not
// whole never has the name of a piece. It returns the copy.
func compress(ctx context.Context, d disk.Disk, piece Piece, kind Compression) (Piece, error) {
	done := piece
	for _, c := range compressions {
		if c.kind != kind {
			continue
		}
		done.Path = piece.Path + c.suffix
		size, err := writeCompressed(ctx, d, piece.Path, partName(done.Path), c.writer)
		if err != nil {
			return piece, fmt.Errorf("compress %s: %w", piece.Path, err)
		}
		done.Size = size
	}
	if err := d.RenameNew(partName(done.Path), done.Path); err != nil {
		return piece, err
	}
	if err := d.SyncFolder(filepath.Dir(piece.Path)); err != nil {
		return piece, err
	}
	return done, d.Remove(piece.Path)
}

func writeCompressed(ctx context.Context, d disk.Disk, from, to string, writer func(io.Writer) (io.WriteCloser, error)) (size int64, err error) {
	in, err := os.Open(from)
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
	w, err := writer(buffer)
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
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	suffix := suffixOf(path)
	for _, c := range compressions {
		if c.suffix == suffix {
			r, err := c.reader(bufio.NewReaderSize(f, 256<<10))
			if err != nil {
				f.Close()
				return nil, &fs.PathError{Op: "decompress", Path: path, Err: err}
			}
			return &decompressed{r, f}, nil
		}
	}
	return f, nil
}

type decompressed struct {
	io.ReadCloser
	f *os.File
}

func (d *decompressed) Close() error {
	d.ReadCloser.Close()
	return d.f.Close()
}

// cleanUp removes what a kill left in the middle of compressing: parts, and
// pieces of which there is a whole compressed copy. It returns the pieces that remain.
func cleanUp(d disk.Disk, live string) ([]Piece, error) {
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
	listed, err := Pieces(live)
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
