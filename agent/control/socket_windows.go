package control

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/windows"

	"oakbarrel/core/disk"
	"oakbarrel/core/fingerprint"
)

// The agent is asked over a port of this machine alone. Where it is, by which certificate it
// is known, and what who asks has to say first, stands in a file that only those read who may
// enter the folder: others neither ask, nor answer in its place.

// whereFile is the name of that file, in a state folder.
const whereFile = "control.json"

type whereabouts struct {
	Address     string `json:"address"`
	Fingerprint string `json:"fingerprint"`
	Word        string `json:"word"` // that who asks says first
}

// helloTime is for how long who asks may take to say it.
const helloTime = 5 * time.Second

func listen(stateDir string) (net.Listener, error) {
	certificate, err := newCertificate()
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	where := whereabouts{l.Addr().String(), fingerprint.Of(certificate.Certificate[0]).String(), rand.Text()}
	text, err := json.Marshal(where)
	if err == nil {
		err = disk.WriteFile(disk.OS, filepath.Join(stateDir, whereFile), text, 0o600)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	c := &doorkeeper{Listener: l, config: &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS13}, word: where.Word, let: make(chan net.Conn), closed: make(chan struct{})}
	go c.keep()
	return c, nil
}

// newCertificate makes a certificate by which nobody is named: it is known by its fingerprint.
func newCertificate() (c tls.Certificate, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return c, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().AddDate(10, 0, 0)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

// doorkeeper lets in who says the word.
type doorkeeper struct {
	net.Listener
	config *tls.Config
	word   string
	let    chan net.Conn
	closed chan struct{}
	once   sync.Once
}

func (d *doorkeeper) keep() {
	for {
		conn, err := d.Listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(100 * time.Millisecond)
			continue
		}
		go d.ask(tls.Server(conn, d.config))
	}
}

func (d *doorkeeper) ask(conn net.Conn) {
	conn.SetDeadline(time.Now().Add(helloTime))
	said := make([]byte, len(d.word))
	if _, err := io.ReadFull(conn, said); err != nil || subtle.ConstantTimeCompare(said, []byte(d.word)) != 1 {
		conn.Close()
		return
	}
	conn.SetDeadline(time.Time{})
	select {
	case d.let <- conn:
	case <-d.closed:
		conn.Close()
	}
}

func (d *doorkeeper) Accept() (net.Conn, error) {
	select {
	case conn := <-d.let:
		return conn, nil
	case <-d.closed:
		return nil, net.ErrClosed
	}
}

func (d *doorkeeper) Close() error {
	d.once.Do(func() { close(d.closed) })
	return d.Listener.Close()
}

func dial(ctx context.Context, stateDir string) (net.Conn, error) {
	text, err := disk.ReadSmall(filepath.Join(stateDir, whereFile), 1<<16)
	if err != nil {
		return nil, err
	}
	var where whereabouts
	if err := json.Unmarshal(text, &where); err != nil {
		return nil, err
	}
	config := &tls.Config{InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error { // it is known by its fingerprint
		if len(s.PeerCertificates) == 0 || fingerprint.Of(s.PeerCertificates[0].Raw).String() != where.Fingerprint {
			return errStranger
		}
		return nil
	}}
	conn, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", where.Address)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(conn, where.Word); err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

// errStranger says that another program has the agent's port by now.
var errStranger = errors.New("another program answers")

// isNobody tells whether an error says that no agent answers.
func isNobody(err error) bool {
	return errors.Is(err, os.ErrNotExist) || errors.Is(err, windows.WSAECONNREFUSED) || errors.Is(err, errStranger)
}
