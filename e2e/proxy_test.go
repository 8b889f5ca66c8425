package e2e

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// proxy passes requests on, and tunnels for TLS, counts both, and keeps what it is
// shown to be let through.
type proxy struct {
	forwarded, tunnels atomic.Int64
	authorization      atomic.Value
	open               sync.Map // tunnels
}

func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.authorization.Store(r.Header.Get("Proxy-Authorization"))
	if r.Method != http.MethodConnect {
		p.forwarded.Add(1)
		(&httputil.ReverseProxy{Rewrite: func(*httputil.ProxyRequest) {}}).ServeHTTP(w, r)
		return
	}
	p.tunnels.Add(1)
	to, err := net.Dial("tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer to.Close()
	w.WriteHeader(http.StatusOK)
	from, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer from.Close()
	p.open.Store(from, nil)
	go io.Copy(to, buffered)
	io.Copy(from, to)
}

// An agent reaches its service through a proxy, with TLS and without, and tells
// where the proxy is gone. What the proxy's address holds is told to nobody.
func TestThroughAProxy(t *testing.T) {
	for _, encrypted := range []bool{false, true} {
		s := newStore(t)
		trust := ""
		if encrypted {
			s.kill()
			print := certificate(t, s.dir)
			s.options = []string{"--certificate", filepath.Join(s.dir, "lantern.pem"), "--key", filepath.Join(s.dir, "lantern.key")}
			s.start()
			trust = fmt.Sprintf("fingerprint: %q,", print)
		}
		p := new(proxy)
		server := httptest.NewServer(p)
		t.Cleanup(server.Close)
		h := s.host("gateway", s.token("gateway", "write"))
		plan, _ := os.ReadFile(h.plan)
		h.setPlan(strings.Replace(string(plan), "token_file:", fmt.Sprintf("%s proxy: %q, token_file:", trust, strings.Replace(server.URL, "//", "//tide:s3cret@", 1)), 1))
		h.start()
		h.send("udp", "<13>x: one")
		h.waitUntilDelivered(1)
		if some, tunnels := p.forwarded.Load() > 0, p.tunnels.Load() > 0; some == encrypted || tunnels != encrypted {
			t.Errorf("TLS %v: forwarded %v, tunnels %v", encrypted, some, tunnels)
		}
		if p.authorization.Load() != "Basic dGlkZTpzM2NyZXQ=" {
			t.Errorf("the proxy is shown %q", p.authorization.Load())
		}
		server.CloseClientConnections()
		server.Close()
		p.open.Range(func(tunnel, _ any) bool { tunnel.(net.Conn).Close(); return true })
		h.send("udp", "<13>x: two")
		h.eventually("the proxy's absence is told", func() bool { return strings.Contains(h.status().Outlets[0].Trouble, "proxyconnect") })
		out, _, _ := run(t, "status", "--state", h.state, "--output", "json")
		if strings.Contains(out+h.log.String(), "s3cret") {
			t.Error("the proxy's password is told")
		}
		l, err := net.Listen("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		again := &http.Server{Handler: p}
		go again.Serve(l)
		t.Cleanup(func() { again.Close() })
		h.waitUntilDelivered(2)
	}
}
