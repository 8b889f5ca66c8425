package roll

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io/fs"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

// intent is what the writer notes before each write: how long the file is, how
// much is about to be added, and how far followed sources are taken with it.
// After a kill it tells whether the write was whole: a torn one is cut away and
// its marks do not count, so a file only ever holds whole lines and the marks
// are those of the lines in it. It knows the file by its inode, so it says
// nothing about another one under the same name.
type intent struct {
	inode        uint64
	size, length int64
	void         bool // the intent before was not carried out
	marks        []record.Mark
}

const (
	intentMagic = "OBI2"
	intentEnd   = "\x00\x00\x00\x00" // stands behind the last, where else the next begins
	intentSize  = 45                 // bytes before the marks
)

// intentLog is the file of intents. One follows the other as long as their
// marks stand nowhere else; one without marks makes place for the next.
type intentLog struct {
	file   disk.File
	number uint64 // of the next intent: in what follows, numbers grow
	at     int64  // where it is written
	inode  uint64 // of the file that the last one speaks of that stays, 0 where none does
	buffer []byte
}

func (l *intentLog) append(i intent) error { return l.write(i, len(i.marks) > 0 || i.void) }

// begin notes how long a file is, where the one behind it is to have marks and none before it
// speaks of that file: should the one behind be damaged, it is known where its lines begin.
func (l *intentLog) begin(i intent) error { return l.write(i, true) }

func (l *intentLog) write(i intent, stays bool) error {
	l.buffer = append(i.append(l.buffer[:0], l.number), intentEnd...)
	if _, err := l.file.WriteAt(l.buffer, l.at); err != nil {
		return err
	}
	l.number++
	if stays {
		l.at, l.inode = l.at+int64(len(l.buffer)-len(intentEnd)), i.inode
	}
	return nil
}

func (i *intent) append(dst []byte, number uint64) []byte {
	dst = append(dst, intentMagic+"\x00\x00\x00\x00"...)
	dst = binary.LittleEndian.AppendUint64(dst, number)
	dst = binary.LittleEndian.AppendUint64(dst, i.inode)
	dst = binary.LittleEndian.AppendUint64(dst, uint64(i.size))
	dst = binary.LittleEndian.AppendUint64(dst, uint64(i.length))
	dst = append(dst, 0, 0, 0, 0, 0)
	if i.void {
		dst[intentSize-5] = 1
	}
	for _, m := range i.marks {
		dst = binary.AppendUvarint(dst, uint64(len(m.Source)))
		dst = append(dst, m.Source...)
		dst = binary.AppendUvarint(dst, uint64(m.Offset))
	}
	binary.LittleEndian.PutUint32(dst[intentSize-4:], uint32(len(dst)-intentSize))
	binary.LittleEndian.PutUint32(dst[4:], crc32.ChecksumIEEE(dst[8:]))
	return dst
}

// parseIntent reads the intent at the start of b and returns its size, 0 where none stands there.
func parseIntent(b []byte) (i intent, number uint64, size int) {
	if len(b) < intentSize || string(b[:4]) != intentMagic {
		return i, 0, 0
	}
	marks := binary.LittleEndian.Uint32(b[intentSize-4:])
	if uint64(marks) > uint64(len(b)-intentSize) {
		return i, 0, 0
	}
	size = intentSize + int(marks)
	if crc32.ChecksumIEEE(b[8:size]) != binary.LittleEndian.Uint32(b[4:]) {
		return i, 0, 0
	}
	number = binary.LittleEndian.Uint64(b[8:])
	i.inode = binary.LittleEndian.Uint64(b[16:])
	i.size = int64(binary.LittleEndian.Uint64(b[24:]))
	i.length = int64(binary.LittleEndian.Uint64(b[32:]))
	i.void = b[40] == 1
	for rest := b[intentSize:size]; len(rest) > 0; {
		length, n := binary.Uvarint(rest)
		if n <= 0 || length > uint64(len(rest)-n) {
			break
		}
		source := string(rest[n : n+int(length)])
		rest = rest[n+int(length):]
		offset, n := binary.Uvarint(rest)
		if n <= 0 {
			break
		}
		i.marks = append(i.marks, record.Mark{Source: source, Offset: int64(offset)})
		rest = rest[n:]
	}
	return i, number, size
}

// notes are the intents of a file, the oldest first.
type notes struct {
	all     []intent
	next    uint64 // the number of the next
	damaged bool   // one cannot be read: those behind it do not count
	unclean bool   // something else than the end stands behind the last: one that is damaged, or was torn by a kill
}

// readIntents reads the intents at a path. None is no error: nothing was written yet.
func readIntents(path string) (n notes) {
	b, err := disk.ReadFile(path)
	if err != nil {
		return n
	}
	for {
		i, number, size := parseIntent(b)
		if size == 0 {
			n.unclean = len(b) >= len(intentEnd) && string(b[:len(intentEnd)]) != intentEnd
			n.damaged = n.unclean && (len(n.all) == 0 || goesOnBehind(b, n.next)) // the first always stands there
			return n
		}
		if number < n.next {
			return n
		}
		n.all, n.next, b = append(n.all, i), number+1, b[size:]
	}
}

// goesOnBehind tells whether the intent with a number stands at the start of b,
// damaged, or one with a higher number behind it. Else what stands there is
// left of older ones.
func goesOnBehind(b []byte, number uint64) bool {
	if len(b) >= intentSize && string(b[:4]) == intentMagic && binary.LittleEndian.Uint64(b[8:]) == number {
		return true
	}
	for at := 1; at < len(b); at++ {
		next := bytes.Index(b[at:], []byte(intentMagic))
		if next < 0 {
			return false
		}
		at += next
		if _, other, size := parseIntent(b[at:]); size > 0 && other > number {
			return true
		}
	}
	return false
}

// settle returns the marks of the intents that were carried out, all of them
// but perhaps the last: that one was, unless the live file is the one that it
// speaks of, and shorter. Then cut tells to which size that file is cut back.
// Where an intent is damaged, what was written since cannot be told apart, and is
// cut off too.
func (n notes) settle(live fs.FileInfo) (marks map[string]int64, cut int64) {
	marks, cut = map[string]int64{}, -1
	for k, i := range n.all {
		last := k+1 == len(n.all)
		is := live != nil && inodeOf(live) == i.inode
		switch {
		case !last && n.all[k+1].void:
			continue
		case last && i.length > 0 && is && live.Size() < i.size+i.length:
			if live.Size() > i.size {
				cut = i.size
			}
			continue
		case last && n.unclean && is && live.Size() > i.size+i.length: // a torn one was not carried out
			cut = i.size + i.length
		}
		for _, m := range i.marks {
			marks[m.Source] = max(marks[m.Source], m.Offset)
		}
	}
	return marks, cut
}

// torn tells whether what is cut off is what the last intent speaks of, which a
// kill has torn.
func (n notes) torn(live fs.FileInfo) bool {
	if len(n.all) == 0 || n.damaged {
		return false
	}
	last := n.all[len(n.all)-1]
	return last.length > 0 && live.Size() < last.size+last.length
}

// Marks returns how far the set of a live file has taken followed sources, as
// far as the file of its intents tells. It changes nothing.
func Marks(live, intentPath string) map[string]int64 {
	st, err := disk.Lstat(live)
	if err != nil {
		st = nil
	}
	marks, _ := readIntents(intentPath).settle(st)
	return marks
}

// Damage is what was found damaged when a set was opened.
type Damage struct {
	File  string
	Lines int64  // that were cut off the live file: of those that came from files, all are read again
	Cut   []byte // those lines
}

// recover cuts a torn write from the live file, and begins the file of intents
// anew with what the old one tells.
func (w *Writer) recover(live disk.File, st fs.FileInfo) error {
	n := readIntents(w.intentPath)
	marks, cut := n.settle(st)
	size := st.Size()
	if (n.damaged || n.unclean && cut >= 0 && size > cut) && w.damaged != nil && !n.torn(st) {
		w.damaged(w.damage(cut, size))
	}
	if cut >= 0 {
		if err := live.Truncate(cut); err != nil {
			return err
		}
		size = cut
	}
	f, err := w.disk.Create(w.intentPath+partSuffix, 0o600)
	if err != nil {
		return err
	}
	log := &intentLog{file: f, number: n.next + 1} // above a damaged one
	first := intent{inode: inodeOf(st), size: size}
	for source, offset := range marks {
		first.marks = append(first.marks, record.Mark{Source: source, Offset: offset})
	}
	if err = log.append(first); err == nil {
		err = w.disk.Rename(w.intentPath+partSuffix, w.intentPath)
	}
	if err != nil {
		f.Close()
		return err
	}
	w.intents, w.noted = log, marks
	return nil
}

// damage reads what is going to be cut off.
func (w *Writer) damage(cut, size int64) Damage {
	d := Damage{File: w.intentPath}
	if f, err := disk.OpenRead(w.path); err == nil && cut >= 0 {
		d.Cut = make([]byte, size-cut)
		f.ReadAt(d.Cut, cut)
		f.Close()
		d.Lines = int64(bytes.Count(d.Cut, []byte{'\n'}))
	}
	return d
}

// Telling has damage told that is found when the set is opened. Call it before
// the first Tick or Write.
func (w *Writer) Telling(tell func(Damage)) { w.damaged = tell }

func inodeOf(st fs.FileInfo) uint64 { return disk.FactsOf(st).Inode }
