package bench

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/service/access"
)

// hundredAlerts are alerts as people have them: most by program, host and severity, some that ask
// for words and fields.
func hundredAlerts() (texts []string) {
	apps := []string{"pumpd", "ticketd", "salinity-probe", "door-badge", "valve-ctl", "tide-link", "feeder", "sshd", "cron", "kernel"}
	for i := range 100 {
		app := apps[i%len(apps)]
		switch i / 10 {
		case 0:
			texts = append(texts, fmt.Sprintf("by: host\nwhen: app is %s and severity at least error\nmore: {than: 100, in: 10m}", app))
		case 1:
			texts = append(texts, fmt.Sprintf("by: app\nwhen: severity at least %s\nmore: {than: 1000000, in: %dm}", record.Severities[i%5], i))
		case 2:
			texts = append(texts, fmt.Sprintf("by: host\nwhen: app is %s\nsilent: {for: 30m}", app))
		case 3:
			texts = append(texts, fmt.Sprintf("when: app is %s and severity at least error\nnew_shape: {}", app))
		case 4:
			texts = append(texts, fmt.Sprintf("when: app is %s\nshare: {of: severity at least error, over: 90%%, in: 10m}", app))
		case 5:
			texts = append(texts, fmt.Sprintf("when: app is %s\nfewer: {than: 1, in: 1h}", app))
		case 6:
			texts = append(texts, fmt.Sprintf("by: host\nwhen: host is kelp-%02d\nmore: {than: 100000000, in: 1h}", i))
		case 7:
			texts = append(texts, fmt.Sprintf("when: facility in (auth, authpriv) and severity at least warning and app is %s\nmore: {than: 10, in: 5m}", app))
		case 8:
			texts = append(texts, fmt.Sprintf("when: app is %s and text has word unheard%d\nmore: {than: 0, in: 5m}", app, i))
		case 9:
			texts = append(texts, fmt.Sprintf("when: app is rare-%d\nvalue: {field: tank.temperature, over: 28}", i))
		}
	}
	return texts
}

// BenchmarkAlerts sends batches to a store that a hundred alerts ask, against the same store
// while they are off.
func BenchmarkAlerts(b *testing.B) {
	all := records(lines(corpus(400_000)))
	now := record.StampOf(time.Now())
	for i := range all {
		all[i].Time = now                                                                          // what is old says nothing
		all[i].Priority = record.MakePriority(record.Facility(len(all[i].App)), all[i].Severity()) // a program has one facility
	}
	s := startStore(b)
	token, err := access.NewToken(s.db, "*", access.Admin, "")
	check(b, err)
	admin := clientOf(b, s.url, token)
	turn := func(off bool) {
		for i, text := range hundredAlerts() {
			_, err := admin.PutAlert(context.Background(), fmt.Sprintf("alert-%d", i), client.PutAlert{Text: "alert: 1\n" + text + "\n", Off: off})
			check(b, err)
		}
		payloads, sizes := pack(all[:20_000], s.next) // what comes again and again is looked at once
		s.send(b, payloads[0], sizes[0])
		time.Sleep(3 * time.Second)
	}
	send := func() time.Duration {
		payloads, sizes := pack(all, s.next)
		start := time.Now()
		for i, p := range payloads {
			s.send(b, p, sizes[i])
		}
		return time.Since(start)
	}
	send()
	for b.Loop() {
		var took [2]time.Duration // of processors, also the database's
		part := func(off bool, took *time.Duration) time.Duration {
			turn(off)
			before := s.processors(b)
			wall := time.Duration(0)
			for range 4 {
				wall += send()
			}
			time.Sleep(time.Second) // what is left to be judged
			*took += s.processors(b) - before
			return wall
		}
		bare, ours, ratio := pair(7, func() time.Duration { return part(true, &took[0]) }, func() time.Duration { return part(false, &took[1]) })
		report(b, 4*len(all), bare, ours, ratio)
		b.ReportMetric(took[1].Seconds()/took[0].Seconds(), "x-cpu")
	}
}

// processors returns how long processors have worked for the service and for its database.
func (s *store) processors(b *testing.B) time.Duration {
	var own syscall.Rusage
	check(b, syscall.Getrusage(syscall.RUSAGE_SELF, &own))
	pid, err := os.ReadFile(filepath.Join(s.dir, "m.pid"))
	check(b, err)
	stat, err := os.ReadFile("/proc/" + strings.TrimSpace(string(pid)) + "/stat")
	check(b, err)
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	ticks := 0
	for _, f := range fields[11:13] { // in user and system mode, in hundredths of a second
		n, err := strconv.Atoi(f)
		check(b, err)
		ticks += n
	}
	return time.Duration(own.Utime.Nano()+own.Stime.Nano()) + time.Duration(ticks)*10*time.Millisecond
}
