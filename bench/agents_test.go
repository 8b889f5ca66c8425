package bench

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/demo/mariadb"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

// BenchmarkManyAgents has a service of its own process take the batches of a
// hundred agents, while two thousand others connect at once, tell how they are
// and wait for orders. It tells the most memory that the service takes.
func BenchmarkManyAgents(b *testing.B) {
	const sending, idle, batches, each = 100, 2000, 20, 2000
	address, db, serve := startProcess(b)
	agents := map[string]*client.Client{} // each has a token of its own
	for n := range sending + idle {
		token, err := access.NewToken(db, "bench", access.Write, "")
		check(b, err)
		agents[fmt.Sprintf("%032x", n)] = clientOf(b, "http://"+address, token)
	}
	all := parsed(each)
	for b.Loop() {
		ctx, cancel := context.WithCancel(context.Background())
		var waiting, taking sync.WaitGroup
		var connected atomic.Int64
		start := time.Now()
		for n := range idle {
			waiting.Go(func() {
				id := fmt.Sprintf("%032x", sending+n)
				c := agents[id]
				for ctx.Err() == nil {
					if _, err := c.SendStatus(ctx, id, client.AgentStatus{Host: id[26:], Status: client.Status{}}); err == nil {
						break
					}
					time.Sleep(250 * time.Millisecond)
				}
				connected.Add(1)
				for ctx.Err() == nil {
					c.WaitForOrders(ctx, id, 25*time.Second)
				}
			})
		}
		for n := range sending {
			taking.Go(func() {
				id := fmt.Sprintf("%032x", n)
				c := agents[id]
				next := uint64(1)
				for range batches {
					payloads, sizes := pack(all, next)
					head := headOf(next, payloads[0], sizes[0])
					for {
						if _, err := c.SendBatch(ctx, id, "centre", "bench", head, payloads[0]); err == nil {
							break
						}
						time.Sleep(250 * time.Millisecond)
					}
					next = head.Last + 1
				}
			})
		}
		taking.Wait()
		took := time.Since(start)
		for connected.Load() < idle {
			time.Sleep(10 * time.Millisecond)
		}
		b.ReportMetric(time.Since(start).Seconds(), "s-until-all-are-connected")
		b.ReportMetric(float64(sending*batches*each)/took.Seconds(), "records/s")
		b.ReportMetric(peak(b, serve.Process.Pid), "MiB-at-most")
		b.ReportMetric(0, "ns/op")
		cancel()
		waiting.Wait()
	}
}

// startProcess starts a service as a process of its own, before a database of its own.
func startProcess(b *testing.B) (address string, db *gorm.DB, serve *exec.Cmd) {
	dir, err := os.MkdirTemp("", "ob")
	check(b, err)
	b.Cleanup(func() { os.RemoveAll(dir) })
	binary, dsn := filepath.Join(dir, "oakbarrel"), filepath.Join(dir, "dsn")
	if out, err := exec.Command("go", "build", "-o", binary, "oakbarrel/cmd/oakbarrel").CombinedOutput(); err != nil {
		b.Fatalf("%s", out)
	}
	server, err := mariadb.Start(context.Background(), filepath.Join(dir, "db"))
	check(b, err)
	b.Cleanup(server.Kill)
	check(b, os.WriteFile(dsn, []byte(server.DSN), 0o600))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	check(b, err)
	address = l.Addr().String()
	l.Close()
	serve = exec.Command(binary, "serve", "--listen", address, "--database-file", dsn)
	out, err := serve.StdoutPipe()
	check(b, err)
	check(b, serve.Start())
	b.Cleanup(func() { serve.Process.Kill(); serve.Wait() })
	bufio.NewReader(out).ReadString('\n')
	db, err = model.Open(server.DSN, slog.New(slog.DiscardHandler))
	check(b, err)
	return address, db, serve
}

// parsed returns records of the corpus.
func parsed(n int) []record.Record { return records(lines(corpus(n))) }

// peak returns the most memory that a process has had resident, in MiB.
func peak(b *testing.B, pid int) float64 { return resident(b, pid, "VmHWM") }

// resident returns what the system tells of a process's memory, in MiB.
func resident(b *testing.B, pid int, what string) float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	check(b, err)
	for line := range strings.Lines(string(status)) {
		var kib float64
		if n, _ := fmt.Sscanf(line, what+": %f kB", &kib); n == 1 {
			return kib / 1024
		}
	}
	b.Fatal("the system does not tell")
	return 0
}
