package roll

import (
	"bytes"
	"io"
)

// blockSize is how much of a piece is unpacked ahead of its reader at a time, in bytes.
const blockSize = 256 << 10

// readBlocks reads from ahead of each, which it calls with blocks of whole
// lines; what stands at the end without a newline is one too. A line that is
// longer than MaxLine is cut.
func readBlocks(from io.Reader, each func(block []byte) error) error {
	full, free, stop := make(chan []byte, 2), make(chan []byte, 4), make(chan struct{})
	failed := make(chan error, 1)
	for range 4 {
		free <- nil
	}
	go func() {
		defer close(full)
		failed <- fillBlocks(from, full, free, stop)
	}()
	var err error
	for block := range full {
		if err == nil {
			if err = each(block); err != nil {
				close(stop)
			}
		}
		free <- block
	}
	if reading := <-failed; err == nil {
		err = reading
	}
	return err
}

// fillBlocks fills blocks until the end of from, or until stop is closed.
func fillBlocks(from io.Reader, full chan<- []byte, free <-chan []byte, stop <-chan struct{}) error {
	var rest []byte // of the block before, without a newline
	skipping := false
	for {
		select {
		case <-stop:
			return nil
		default:
		}
		block := append((<-free)[:0], rest...)
		if cap(block)-len(block) < blockSize {
			block = append(make([]byte, 0, len(block)+blockSize), block...)
		}
		n, err := io.ReadFull(from, block[len(block):len(block)+blockSize])
		block = block[:len(block)+n]
		if skipping { // the end of a line that was cut
			_, after, found := bytes.Cut(block, []byte{'\n'})
			skipping = !found
			block = append(block[:0], after...)
		}
		last := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !last {
			return err
		}
		end := bytes.LastIndexByte(block, '\n') + 1
		if last {
			end = len(block)
		}
		if end == 0 && len(block) > MaxLine {
			block = append(block[:MaxLine], '\n')
			end, skipping = len(block), true
		}
		rest = append(rest[:0], block[end:]...)
		full <- block[:end]
		if last {
			return nil
		}
	}
}
