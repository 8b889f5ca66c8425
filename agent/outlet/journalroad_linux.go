package outlet

import (
	"context"
	"errors"
	"net"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/client"
	"oakbarrel/core/journal"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// journalRoad leads into the system's journal, over its socket. The journal gives no
// answer: a batch counts as taken once its entries are in the socket, which outlives the
// journal's own restarts. One that does not read holds the batch up.
type journalRoad struct {
	plainRoad
	socket string
	conn   *net.UnixConn
	batch  []byte
	ends   []journalEnd
	sent   uint64 // the number of the last entry that is in the socket: it does not go again with what is left of its batch
}

// journalEnd is where the entry of a record ends in the batch.
type journalEnd struct {
	number uint64
	at     int
}

func newJournalRoad(socket string) *journalRoad { return &journalRoad{socket: socket} }

func (j *journalRoad) begin(_ context.Context, here uint64) (uint64, error) { return here, nil }
func (j *journalRoad) depth() int                                           { return 1 }
func (j *journalRoad) reset()                                               { j.batch, j.ends = j.batch[:0], j.ends[:0] }

func (j *journalRoad) add(number uint64, r *record.Record) {
	if number > j.sent {
		j.batch = journal.AppendNative(j.batch, r)
		j.ends = append(j.ends, journalEnd{number, len(j.batch)})
	}
}

func (j *journalRoad) close() {
	if j.conn != nil {
		j.conn.Close()
		j.conn = nil
	}
}

func (j *journalRoad) pack(b spool.Batch, refused bool) delivery {
	return func(ctx context.Context) (uint64, error) {
		if refused || b.Records == 0 {
			return b.Last, nil
		}
		if err := j.deliver(ctx); err != nil {
			j.close()
			return 0, &client.RetryLater{Err: &client.Unreachable{Address: "the journal at " + j.socket, Err: client.WithoutAddress(err)}}
		}
		return b.Last, nil
	}
}

func (j *journalRoad) deliver(ctx context.Context) error {
	if j.conn == nil {
		conn, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: j.socket, Net: "unixgram"})
		if err != nil {
			return err
		}
		conn.SetWriteBuffer(8 << 20)
		j.conn = conn
	}
	conn := j.conn // as the road may have closed it by then
	stop := context.AfterFunc(ctx, func() { conn.SetWriteDeadline(time.Unix(1, 0)) })
	defer stop()
	start := 0
	for _, end := range j.ends {
		j.conn.SetWriteDeadline(time.Now().Add(streamTime))
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := j.send(j.batch[start:end.at]); err != nil {
			return err
		}
		start, j.sent = end.at, end.number
	}
	return nil
}

// send sends one entry: what is too long for a datagram, in a file that it hands over.
func (j *journalRoad) send(entry []byte) error {
	_, err := j.conn.Write(entry)
	if !errors.Is(err, unix.EMSGSIZE) && !errors.Is(err, unix.ENOBUFS) {
		return err
	}
	fd, err := unix.MemfdCreate("oakbarrel-entry", unix.MFD_CLOEXEC|unix.MFD_ALLOW_SEALING)
	if err != nil {
		return err
	}
	file := os.NewFile(uintptr(fd), "entry")
	defer file.Close()
	if _, err := file.Write(entry); err != nil {
		return err
	}
	if _, err := unix.FcntlInt(file.Fd(), unix.F_ADD_SEALS, unix.F_SEAL_SHRINK|unix.F_SEAL_GROW|unix.F_SEAL_WRITE|unix.F_SEAL_SEAL); err != nil {
		return err
	}
	_, _, err = j.conn.WriteMsgUnix(nil, unix.UnixRights(int(file.Fd())), nil)
	return err
}
