package api_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
)

// raw sends a request for reading whose answer is read by hand.
func (f *fixture) raw(token, path string) net.Conn {
	f.t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(f.server.URL, "http://"))
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { conn.Close() })
	fmt.Fprintf(conn, "GET /api/v1%s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", path, token)
	return conn
}

// fill puts so much into the cask that an answer does not fit into the buffers on the way.
func (f *fixture) fill() {
	f.t.Helper()
	records := some(20_000)
	for i := range records {
		records[i].Text = []byte(strings.Repeat("the tide turns ", 40))
	}
	for i := range 3 {
		head, payload := pack(uint64(1+i*len(records)), records)
		if _, err := f.writer(f.agent(1)).SendBatch(context.Background(), f.agent(1), "centre", f.cask, head, payload); err != nil {
			f.t.Fatal(err)
		}
	}
}

// One who opens many searches and reads none of the answers keeps no other reader
// waiting for a second; live views of one visitor are bounded, too.
func TestOneReaderKeepsNoOtherOut(t *testing.T) {
	f := newFixture(t)
	f.fill()
	for range 200 {
		f.raw(f.readToken, "/records?limit=100000")
	}
	time.Sleep(300 * time.Millisecond)
	other, _ := f.client("read")
	soon(t, "another reader", time.Second, func() error {
		n := 0
		err := other.Read(context.Background(), client.Query{Cask: f.cask, Where: "severity is error"}, client.Page{Limit: 10}, func([]byte) error { n++; return nil })
		if n != 10 {
			t.Errorf("another reader gets %d records", n)
		}
		return err
	})
	refused := 0
	for range 80 {
		conn := f.raw(f.readToken, "/follow")
		conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		if answer, err := http.ReadResponse(bufio.NewReader(conn), nil); err == nil && answer.StatusCode == http.StatusTooManyRequests {
			refused++
		} else if err != nil || answer.StatusCode != http.StatusOK {
			t.Fatal(answer, err)
		}
	}
	if refused != 16 {
		t.Errorf("of 80 live views %d are refused", refused)
	}
}

// A request whose client is gone ends, and gives its seat back.
func TestARequestWhoseClientIsGoneEnds(t *testing.T) {
	f := newFixture(t)
	f.fill()
	for range 3 {
		var open []net.Conn
		for range 100 {
			open = append(open, f.raw(f.readToken, "/records?limit=100000"))
		}
		time.Sleep(100 * time.Millisecond)
		for _, conn := range open {
			conn.Close()
		}
	}
	began := time.Now()
	n := 0
	err := f.read.Read(context.Background(), client.Query{Cask: f.cask}, client.Page{Limit: 10}, func([]byte) error { n++; return nil })
	if err != nil || n != 10 || time.Since(began) > 5*time.Second {
		t.Errorf("the same reader gets %d records, %v, after %s", n, err, time.Since(began))
	}
}
