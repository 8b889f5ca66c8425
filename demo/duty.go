package demo

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Duty stands in for what tells the person on duty: it takes webhooks and mail
// on loopback, and writes what comes into two files.
type Duty struct {
	Webhook string // an address
	Mail    string // HOST:PORT

	dir string
	mu  sync.Mutex
}

// The files of a Duty.
const (
	DutyWebhooks = "webhooks.jsonl" // a body each line
	DutyMail     = "mail.txt"       // a letter each, as it came
)

// StartDuty starts one that writes into a folder, until ctx ends.
func StartDuty(ctx context.Context, dir string) (*Duty, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	d := &Duty{dir: dir}
	web, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	mail, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		web.Close()
		return nil, err
	}
	d.Webhook, d.Mail = "http://"+web.Addr().String()+"/duty", mail.Addr().String()
	go http.Serve(web, http.HandlerFunc(d.webhook))
	go d.serveMail(mail)
	context.AfterFunc(ctx, func() {
		web.Close()
		mail.Close()
	})
	return d, nil
}

func (d *Duty) write(file, text string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f, err := os.OpenFile(filepath.Join(d.dir, file), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return // the demo goes on without
	}
	defer f.Close()
	f.WriteString(text)
}

func (d *Duty) webhook(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil || r.Method != http.MethodPost {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	d.write(DutyWebhooks, strings.TrimSpace(string(body))+"\n")
}

func (d *Duty) serveMail(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			d.talk(bufio.NewReader(conn), conn)
		}()
	}
}

// talk speaks as much SMTP (RFC 5321) as taking a letter needs.
func (d *Duty) talk(in *bufio.Reader, out io.Writer) {
	say := func(answer string) { fmt.Fprint(out, answer, "\r\n") }
	say("220 lantern.example")
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		verb, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(line)), " ")
		switch verb {
		case "DATA":
			say("354 go on")
			var letter strings.Builder
			for line, err = in.ReadString('\n'); err == nil && line != ".\r\n"; line, err = in.ReadString('\n') {
				letter.WriteString(strings.ReplaceAll(strings.TrimPrefix(line, "."), "\r\n", "\n"))
			}
			if err != nil {
				return
			}
			d.write(DutyMail, letter.String()+"\n")
			say("250 taken")
		case "QUIT":
			say("221 bye")
			return
		case "HELO", "EHLO", "MAIL", "RCPT", "RSET", "NOOP":
			say("250 yes")
		default:
			say("502 not here")
		}
	}
}
