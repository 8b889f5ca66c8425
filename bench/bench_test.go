package bench

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"oakbarrel/agent/control"
	"oakbarrel/client"
	"oakbarrel/core/format"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

const rounds = 9

// report shows what one message costs both ways, and the ratio of the two.
func report(b *testing.B, messages int, bare, ours time.Duration, ratio float64) {
	b.ReportMetric(float64(bare)/float64(messages), "bare-ns/msg")
	b.ReportMetric(float64(ours)/float64(messages), "ns/msg")
	b.ReportMetric(ratio, "x-bare")
	b.ReportMetric(0, "ns/op") // one op is the whole run
}

var sink int

func timeTouch(messages [][]byte) func() time.Duration {
	return func() time.Duration {
		start := time.Now()
		for _, m := range messages {
			sink += touch(m)
		}
		return time.Since(start)
	}
}

// batches parses messages as an intake does, a batch at a time, and calls each with every batch.
func batches(messages [][]byte, batch *record.Batch, each func()) {
	p := wire.Parser{Default: record.DefaultPriority}
	now := record.StampOf(time.Now())
	for len(messages) > 0 {
		n := min(len(messages), 350) // as many as 64 KiB hold
		batch.Reset()
		for _, m := range messages[:n] {
			r := batch.Next()
			r.Received = now
			p.Parse(r, m)
		}
		each()
		messages = messages[n:]
	}
}

// measure compares ours with the byte loop, and counts allocations.
func measure(b *testing.B, messages [][]byte, ours func()) {
	ours() // grows what is used again and again
	allocations := testing.AllocsPerRun(1, ours)
	bare, our, ratio := pair(rounds, timeTouch(messages), func() time.Duration {
		start := time.Now()
		ours()
		return time.Since(start)
	})
	report(b, len(messages), bare, our, ratio)
	b.ReportMetric(allocations/float64(len(messages)), "allocs/msg")
}

func BenchmarkParse(b *testing.B) {
	messages := lines(corpus(200_000))
	var batch record.Batch
	for b.Loop() {
		measure(b, messages, func() { batches(messages, &batch, func() {}) })
	}
}

func loadPlan(b *testing.B, name string) *plan.Plan {
	p, findings, err := plan.Load(name)
	if err != nil || p == nil {
		b.Fatal(err, findings)
	}
	return p
}

func BenchmarkParseAndRoute(b *testing.B) {
	messages := lines(corpus(200_000))
	for _, name := range []string{"priorities.yaml", "mixed.yaml"} {
		b.Run(strings.TrimSuffix(name, ".yaml"), func(b *testing.B) {
			table := loadPlan(b, name).Table
			var batch record.Batch
			var routing route.Routing
			for b.Loop() {
				measure(b, messages, func() {
					batches(messages, &batch, func() { sink += table.Route(&batch, &routing).Routed })
				})
			}
		})
	}
}

// BenchmarkThousandRules compares routing by 1,000 rules that priorities tell
// apart with routing by 10.
func BenchmarkThousandRules(b *testing.B) {
	messages := lines(corpus(200_000))
	walk := func(rules int) func() time.Duration {
		var text strings.Builder
		text.WriteString("oakbarrel: 1\nrules:\n")
		for i := range rules {
			p := record.Priority(i * 7 % record.Priorities)
			fmt.Fprintf(&text, "  - {when: facility is %s and severity is %s, send: [all], then: done}\n", p.Facility(), p.Severity())
		}
		text.WriteString("otherwise: {send: [all]}\noutlets: {all: {file: {path: /var/log/bench/all.log, keep: forever}}}\n")
		p, findings := plan.Parse("rules.yaml", []byte(text.String()))
		if p == nil {
			b.Fatal(findings)
		}
		var batch record.Batch
		var routing route.Routing
		return func() time.Duration {
			start := time.Now()
			batches(messages, &batch, func() { sink += p.Table.Route(&batch, &routing).Routed })
			return time.Since(start)
		}
	}
	for b.Loop() {
		ten, thousand, ratio := pair(rounds, walk(10), walk(1000))
		b.ReportMetric(float64(ten)/float64(len(messages)), "10-rules-ns/msg")
		b.ReportMetric(float64(thousand)/float64(len(messages)), "1000-rules-ns/msg")
		b.ReportMetric(ratio, "x-10-rules")
		b.ReportMetric(0, "ns/op")
	}
}

func BenchmarkFormat(b *testing.B) {
	messages := lines(corpus(200_000))
	for _, text := range []string{"json", "rfc5424", "{time} {host} {app}[{procid}] {severity}: {text}"} {
		b.Run(strings.ReplaceAll(strings.Fields(text)[0], "{time}", "template"), func(b *testing.B) {
			f, err := format.Parse(text)
			if err != nil {
				b.Fatal(err)
			}
			var batch record.Batch
			var out []byte
			for b.Loop() {
				measure(b, messages, func() {
					batches(messages, &batch, func() {
						out = out[:0]
						for i := range batch.Records {
							out = f.AppendLine(out, &batch.Records[i])
						}
					})
				})
			}
		})
	}
}

// BenchmarkTCPToFile sends one TCP stream to the whole agent, which parses,
// routes, formats and writes it into a rolled file, against a copy of the
// stream into a file.
func BenchmarkTCPToFile(b *testing.B) {
	const messages = 1_500_000
	data := corpus(messages)
	for _, name := range []string{"priorities.yaml", "mixed.yaml"} {
		b.Run(strings.TrimSuffix(name, ".yaml"), func(b *testing.B) {
			dir := b.TempDir()
			a := startAgent(b, dir, name)
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				b.Fatal(err)
			}
			defer l.Close()
			for b.Loop() {
				bare, our, ratio := pair(5, func() time.Duration {
					start := time.Now()
					done := make(chan error, 1)
					go func() { done <- copyToFile(l, filepath.Join(dir, "bare")) }()
					if err := sendAll(l.Addr().String(), data); err != nil {
						b.Fatal(err)
					}
					if err := <-done; err != nil {
						b.Fatal(err)
					}
					return time.Since(start)
				}, func() time.Duration { return a.take(b, data, messages) })
				report(b, messages, bare, our, ratio)
				b.ReportMetric(float64(len(data))/1e6/our.Seconds(), "MB/s")
				b.ReportMetric(100/ratio, "%-of-bare")
			}
		})
	}
}

// runningAgent is the real program.
type runningAgent struct {
	state, address, udp, socket string
	written                     int64
}

func startAgent(b *testing.B, dir, planName string) *runningAgent {
	binary := filepath.Join(dir, "oakbarrel")
	if out, err := exec.Command("go", "build", "-o", binary, "oakbarrel/cmd/oakbarrel").CombinedOutput(); err != nil {
		b.Fatalf("%s", out)
	}
	source, err := os.ReadFile(planName)
	if err != nil {
		b.Fatal(err)
	}
	file, state := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "state")
	if err := os.WriteFile(file, []byte(strings.ReplaceAll(string(source), "/var/log/bench", dir)), 0o600); err != nil {
		b.Fatal(err)
	}
	c := exec.Command(binary, "agent", "--plan", file, "--state", state)
	stdout, _ := c.StdoutPipe()
	if err := c.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		c.Process.Signal(syscall.SIGTERM)
		c.Wait()
	})
	if line, _ := bufio.NewReader(stdout).ReadString('\n'); line != "ready\n" {
		b.Fatalf("the agent says %q", line)
	}
	a := &runningAgent{state: state}
	for _, address := range a.status(b).Intakes[0].Addresses {
		network, rest, _ := strings.Cut(address, ":")
		*map[string]*string{"tcp": &a.address, "udp": &a.udp, "unix": &a.socket}[network] = strings.TrimPrefix(rest, "//")
	}
	return a
}

func (a *runningAgent) status(b *testing.B) client.Status {
	s, err := control.AskStatus(context.Background(), a.state)
	if err != nil {
		b.Fatal(err)
	}
	return s
}

// take sends data and returns how long it takes until all of it is written.
func (a *runningAgent) take(b *testing.B, data []byte, messages int64) time.Duration {
	a.written += messages
	start := time.Now()
	if err := sendAll(a.address, data); err != nil {
		b.Fatal(err)
	}
	for {
		var out int64
		s := a.status(b)
		for _, o := range s.Outlets {
			out += o.Out
		}
		if out == a.written {
			return time.Since(start)
		}
		if time.Since(start) > time.Minute {
			b.Fatalf("%d of %d are written", out, a.written)
		}
		time.Sleep(2 * time.Millisecond)
	}
}
