package demo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Engine stands in for a container engine where none can run: it writes the
// same files, and runs nothing.
type Engine struct{ Data string } // its folder; the logs are under Data/containers

// Box is a container of an Engine.
type Box struct {
	ID, Name string
	data     string
	limit    int64 // bytes of the log before it is rolled, 0 for none
	files    int
	log      *os.File
	size     int64
}

// partSize is where the engine cuts long lines, in bytes.
const partSize = 16 << 10

// Root is the folder of the containers' logs.
func (e Engine) Root() string { return filepath.Join(e.Data, "containers") }

// Create makes a container whose output is kept by a log driver; limit and
// files are how its log is rolled, 0 for not at all.
func (e Engine) Create(name, image string, labels map[string]string, driver string, limit int64, files int) (*Box, error) {
	sum := sha256.Sum256([]byte(name + time.Now().String()))
	b := &Box{ID: hex.EncodeToString(sum[:]), Name: name, data: e.Data, limit: limit, files: files}
	options := map[string]string{}
	if limit > 0 {
		options["max-size"], options["max-file"] = fmt.Sprint(limit), fmt.Sprint(files)
	}
	config := map[string]any{"ID": b.ID, "Name": "/" + name, "LogPath": b.path(), "State": map[string]any{"Running": true},
		"Config": map[string]any{"Image": image, "Labels": labels, "Tty": false, "Env": []string{"TICKET_PASSWORD=made-up"}}}
	host := map[string]any{"LogConfig": map[string]any{"Type": driver, "Config": options}}
	mount := filepath.Join(e.Data, "image/overlay2/layerdb/mounts", b.ID)
	for _, dir := range []string{b.folder(), mount, b.layer()} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
	}
	for path, what := range map[string]any{"config.v2.json": config, "hostconfig.json": host} {
		text, err := json.Marshal(what)
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(b.folder(), path), text, 0o600); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(filepath.Join(mount, "mount-id"), []byte(b.ID), 0o600); err != nil || driver != "json-file" {
		return b, err
	}
	return b, b.open()
}

func (b *Box) folder() string { return filepath.Join(b.data, "containers", b.ID) }
func (b *Box) path() string   { return filepath.Join(b.folder(), b.ID+"-json.log") }
func (b *Box) layer() string  { return filepath.Join(b.data, "overlay2", b.ID, "diff") }

func (b *Box) open() (err error) {
	b.log, err = os.OpenFile(b.path(), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o640)
	b.size = 0
	return err
}

// Say writes a line to a stream, "stdout" or "stderr". A long one goes in parts.
func (b *Box) Say(stream, line string) error {
	line += "\n"
	for at := time.Now().UTC(); line != ""; {
		part := line[:min(len(line), partSize)]
		line = line[len(part):]
		text, err := json.Marshal(struct {
			Log    string    `json:"log"`
			Stream string    `json:"stream"`
			Time   time.Time `json:"time"`
		}{part, stream, at})
		if err != nil {
			return err
		}
		if b.limit > 0 && b.size >= b.limit {
			if err := b.roll(); err != nil {
				return err
			}
		}
		n, err := b.log.Write(append(text, '\n'))
		if b.size += int64(n); err != nil {
			return err
		}
	}
	return nil
}

// roll renames the log, and those before it, and begins another.
func (b *Box) roll() error {
	b.log.Close()
	for n := b.files - 1; n > 0; n-- {
		from := fmt.Sprintf("%s.%d", b.path(), n-1)
		if n == 1 {
			from = b.path()
		}
		os.Rename(from, fmt.Sprintf("%s.%d", b.path(), n)) // the oldest ones are not there at first
	}
	return b.open()
}

// Write adds to a file in the container's own file system.
func (b *Box) Write(path, text string) error {
	inside := filepath.Join(b.layer(), path)
	if err := os.MkdirAll(filepath.Dir(inside), 0o755); err != nil {
		return err
	}
	return appendTo(inside, text)
}

// Remove removes the container with all that is of it.
func (b *Box) Remove() error {
	if b.log != nil {
		b.log.Close()
	}
	os.RemoveAll(b.layer())
	return os.RemoveAll(b.folder())
}

// boxes are the containers of the ticket shop, under DIR/tide-gw/engine.
func boxes(ctx context.Context, dir string) error {
	e := Engine{filepath.Join(dir, "tide-gw", "engine")}
	shop, err := e.Create("ticket-shop", "lantern/shop:4", map[string]string{"team": "tickets", "oakbarrel.facility": "local6"}, "json-file", 64<<10, 3)
	if err != nil {
		return err
	}
	seats, err := e.Create("seat-map", "lantern/seats:2", nil, "json-file", 0, 0)
	if err != nil {
		return err
	}
	if _, err := e.Create("receipt-mail", "lantern/mail:1", nil, "local", 0, 0); err != nil {
		return err
	}
	rnd := rand.New(rand.NewPCG(13, 32473))
	return again(ctx, 300*time.Millisecond, func(n int, _ time.Time) error {
		err := shop.Say("stdout", fmt.Sprintf("GET /tickets/%d 200 %d ms", 1000+rnd.IntN(9000), 2+rnd.IntN(40)))
		if err == nil && n%50 == 25 {
			err = sayTrace(shop)
		}
		if err == nil && n%4 == 0 {
			err = seats.Say("stdout", fmt.Sprintf(`{"level":"info","msg":"seat held","row":%d,"seat":%d}`, 1+rnd.IntN(12), 1+rnd.IntN(30)))
		}
		if err == nil {
			err = seats.Write("/var/cache/seats.db", strings.Repeat("#", 200))
		}
		return err
	})
}

// sayTrace writes what a program says whose request has failed.
func sayTrace(b *Box) error {
	for _, line := range []string{"ERROR payment failed", "bay.lantern.PaymentException: terminal 3 does not answer", "\tat bay.lantern.Terminal.pay(Terminal.java:61)", "\tat bay.lantern.Shop.sell(Shop.java:18)",
		"Caused by: java.net.SocketTimeoutException: Read timed out", "\t... 2 more"} {
		if err := b.Say("stderr", line); err != nil {
			return err
		}
	}
	return nil
}
