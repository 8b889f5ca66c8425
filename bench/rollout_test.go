package bench

import (
	"context"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/agent/link"
	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/service/access"
)

// simulated is an agent as far as its link goes: it takes each plan, and keeps it.
type simulated struct {
	id, host  string
	service   plan.Service
	delivered chan struct{}

	mu     sync.Mutex
	served client.ServedPlan
}

const ownText = "oakbarrel: 1"

func (s *simulated) AgentID() string              { return s.id }
func (s *simulated) TokenFor(token string) string { return token }
func (s *simulated) Service() plan.Service        { return s.service }
func (s *simulated) PlanInForce() client.AgentPlan {
	return client.AgentPlan{Hash: plan.Hash([]byte(ownText)), Text: ownText}
}

func (s *simulated) Status() client.Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	served := s.served
	return client.Status{AgentID: s.id, Host: s.host, Plan: client.PlanStatus{Hash: plan.Hash([]byte(ownText)), Served: &served}}
}

func (s *simulated) Do(o client.Order) client.Outcome {
	s.set(client.ServedPlan{Plan: o.Plan, Revision: o.Revision, Hash: plan.Hash([]byte(o.Text)), State: client.Judged, Order: o.ID})
	time.AfterFunc(time.Duration(o.Seconds)*time.Second, func() {
		s.set(client.ServedPlan{Plan: o.Plan, Revision: o.Revision, Hash: plan.Hash([]byte(o.Text)), State: client.Kept, Order: o.ID})
	})
	return client.Outcome{Text: "taken"}
}

func (s *simulated) set(p client.ServedPlan) {
	s.mu.Lock()
	s.served = p
	s.mu.Unlock()
	select {
	case s.delivered <- struct{}{}:
	default:
	}
}

// BenchmarkRollout brings a revision to two thousand agents, and tells how long that
// takes, and what they ask for and take of the service's memory where nothing happens.
func BenchmarkRollout(b *testing.B) {
	const agents, judged = 2000, 1
	address, db, serve := startProcess(b)
	dir := b.TempDir()
	var requests atomic.Int64
	to, err := url.Parse("http://" + address)
	check(b, err)
	forward := httputil.NewSingleHostReverseProxy(to)
	forward.ErrorLog = log.New(io.Discard, "", 0) // of requests that are cut in the end
	forward.Transport = &http.Transport{MaxIdleConnsPerHost: 2 * agents}
	counted := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		requests.Add(1)
		forward.ServeHTTP(w, r)
	}))
	defer counted.Close()
	adminToken, err := access.NewToken(db, access.EveryCask, access.Admin, "")
	check(b, err)
	admin := clientOf(b, "http://"+address, adminToken)
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	defer group.Wait()
	defer cancel()
	before := peak(b, serve.Process.Pid)
	for n := range agents {
		token, err := access.NewToken(db, "bench", access.Write, "")
		check(b, err)
		file := filepath.Join(dir, fmt.Sprint(n))
		check(b, os.WriteFile(file, []byte(token), 0o600))
		a := &simulated{id: fmt.Sprintf("%032x", n+1), host: fmt.Sprintf("gate-%04d", n), service: plan.Service{URLs: counted.URL, TokenFile: file}, delivered: make(chan struct{}, 1), served: client.ServedPlan{State: client.NoPlan}}
		k := &link.Link{Agent: a, Delivered: a.delivered}
		group.Go(func() { k.Report(ctx) })
		group.Go(func() { k.Obey(ctx) })
	}
	for {
		hosts, err := admin.Fleet(ctx)
		check(b, err)
		if len(hosts) == agents {
			break
		}
		time.Sleep(time.Second)
	}
	text := "oakbarrel: 1\nintakes: {own: {own: {}}}\noutlets: {centre: {store: {cask: bench}}}\notherwise: {send: [centre]}\n"
	_, err = admin.PutPlan(ctx, "gate", client.NewRevision{Text: text, Why: "bench"})
	check(b, err)
	check(b, admin.Assign(ctx, client.PlanAssignment{Name: "all", Plan: "gate", When: "host starts with gate-"}))
	for n := 0; b.Loop(); n++ {
		_, err := admin.PutPlan(ctx, "gate", client.NewRevision{Text: fmt.Sprintf("%svalues: {n: '%d'}\n", text, n), Why: "bench"})
		check(b, err)
		start := time.Now()
		r, err := admin.StartRollout(ctx, client.NewRollout{Plan: "gate", Waves: "1, 10%, all", Seconds: judged, Why: "bench"})
		for check(b, err); !r.State.Ended(); {
			time.Sleep(200 * time.Millisecond)
			r, err = admin.Rollout(ctx, r.ID)
			check(b, err)
		}
		if r.Counts["kept"] != agents {
			b.Fatal(r.State, r.Note, r.Counts)
		}
		b.ReportMetric(time.Since(start).Seconds(), "s-until-all-have-it")
		time.Sleep(time.Minute) // until they are at rest
		requests.Store(0)
		time.Sleep(2 * time.Minute)
		b.ReportMetric(float64(requests.Load())/2/agents, "requests/min-each-at-rest")
		b.ReportMetric((resident(b, serve.Process.Pid, "VmRSS")-before)*1024/agents, "KiB-each-at-rest")
		b.ReportMetric((peak(b, serve.Process.Pid)-before)*1024/agents, "KiB-each-at-most")
		start = time.Now()
		for range 10 {
			o, err := admin.Overview(ctx, "gate-1 gate", 200)
			if check(b, err); o.All != agents {
				b.Fatal(o.All)
			}
		}
		b.ReportMetric(float64(time.Since(start).Milliseconds())/10, "ms-overview")
		b.ReportMetric(0, "ns/op")
	}
}
