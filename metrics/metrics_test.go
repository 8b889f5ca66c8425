package metrics

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/core/delay"
)

// get asks a server as a program does that reads figures.
func get(t *testing.T, s *Server, method, path string) (status int, body string) {
	t.Helper()
	request, _ := http.NewRequest(method, "http://"+s.Address()+path, nil)
	request.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	all, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, string(all)
}

func serve(t *testing.T, all ...*Figures) *Server {
	t.Helper()
	s, err := Listen("127.0.0.1:0", slog.New(slog.DiscardHandler), all...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

var families = []Family{
	{Name: "bay_records_total", Kind: Counter, Help: "Records.", Labels: []string{"of"}},
	{Name: "bay_doors", Kind: Gauge, Help: "Doors."},
	{Name: "bay_delay_seconds", Kind: Histogram, Help: "Delays."},
}

func TestWhatIsServed(t *testing.T) {
	var took delay.Histogram
	took.Observe(3 * time.Second)
	s := serve(t, &Figures{families, func(p *Page) {
		p.Add("bay_records_total", 2, "pumps")
		p.Add("bay_records_total", 3, "pumps") // another of that name, which is leaving
		p.Add("bay_records_total", 1, "a \"b\"\n\xff")
		p.Most("bay_doors", 4)
		p.Most("bay_doors", 2)
		p.Spread("bay_delay_seconds", took.Seen())
		p.Spread("bay_delay_seconds", took.Seen())
	}})
	status, body := get(t, s, "GET", Path)
	for _, want := range []string{
		"bay_records_total{of=\"pumps\"} 5.0\n", `bay_records_total{of="a \"b\"\n` + "\uFFFD\"} 1.0\n", "bay_doors 4.0\n",
		"bay_delay_seconds_bucket{le=\"2.5\"} 0\n", "bay_delay_seconds_bucket{le=\"5.0\"} 2\n", "bay_delay_seconds_sum 6.0\n", "go_goroutines ", "process_resident_memory_bytes ",
	} {
		if !strings.Contains(body, want) {
			t.Errorf("there is no %q", want)
		}
	}
	if status != 200 || !strings.HasSuffix(body, "# EOF\n") {
		t.Errorf("%d: %s", status, body)
	}
	for _, c := range []struct {
		method, path string
		status       int
	}{{"POST", Path, 405}, {"GET", "/", 404}, {"GET", "/debug/pprof/", 404}, {"GET", Path + "/x", 404}} {
		if status, _ := get(t, s, c.method, c.path); status != c.status {
			t.Errorf("%s %s: %d, want %d", c.method, c.path, status, c.status)
		}
	}
}

// Figures that fail, or are not listed, cost the process nothing, and no other figures.
func TestFiguresThatFail(t *testing.T) {
	s := serve(t, &Figures{families, func(p *Page) { p.Add("bay_doors", 7) }}, &Figures{families, func(p *Page) { p.Add("bay_windows", 1) }})
	for range 3 {
		if _, body := get(t, s, "GET", Path); !strings.Contains(body, "bay_doors 7.0\n") || strings.Contains(body, "windows") {
			t.Fatal(body)
		}
	}
}

// However many ask, the figures are made anew once a second; connections that say nothing
// are bounded, and go.
func TestManyWhoAsk(t *testing.T) {
	var mu sync.Mutex
	made := 0
	s := serve(t, &Figures{families, func(p *Page) {
		mu.Lock()
		made++
		mu.Unlock()
		p.Add("bay_doors", 1)
	}})
	var idle []net.Conn
	for range mostConnections - 4 {
		c, err := net.Dial("tcp", s.Address())
		if err != nil {
			t.Fatal(err)
		}
		idle = append(idle, c)
	}
	began := time.Now()
	var asking sync.WaitGroup
	answers := make(chan string, 200)
	for range cap(answers) {
		asking.Go(func() {
			answer, err := http.Get("http://" + s.Address() + Path)
			if err != nil {
				answers <- err.Error()
				return
			}
			io.Copy(io.Discard, answer.Body)
			answer.Body.Close()
			answers <- fmt.Sprint(answer.StatusCode)
		})
	}
	asking.Wait()
	close(answers)
	seen := map[string]int{}
	for a := range answers {
		seen[a]++
	}
	if seen["200"]+seen["503"] != 200 || seen["200"] == 0 {
		t.Errorf("answers: %v", seen)
	}
	mu.Lock()
	defer mu.Unlock()
	if most := int(time.Since(began)/freshFor) + 2; made > most {
		t.Errorf("the figures were made %d times in %v", made, time.Since(began))
	}
	for _, c := range idle {
		c.SetReadDeadline(time.Now().Add(15 * time.Second))
		if _, err := c.Read(make([]byte, 1)); err != io.EOF {
			t.Errorf("a connection that says nothing stays: %v", err)
		}
	}
}
