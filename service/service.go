// Package service is the part of Oak Barrel that keeps the records of many
// hosts: an HTTP interface before a database. It keeps nothing on its own disk.
//
// Its entry is [Run].
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"time"

	"gorm.io/gorm"

	"oakbarrel/core/fingerprint"
	"oakbarrel/core/plan"
	"oakbarrel/metrics"
	"oakbarrel/service/alerts"
	"oakbarrel/service/api"
	"oakbarrel/service/ingest"
	"oakbarrel/service/keep"
	"oakbarrel/service/model"
	"oakbarrel/service/orders"
	"oakbarrel/service/plans"
	"oakbarrel/service/search"
	"oakbarrel/service/shelf"
	"oakbarrel/unit"
)

// Options says how to run a service.
type Options struct {
	Listen           string // HOST:PORT
	DSN              string
	Certificate, Key string // files, for https; both or none
	Metrics          string // HOST:PORT where the figures are served, "" for nowhere
	Link             string // the address of the console, for notices; "" where it is not known
	Log              *slog.Logger
	Unit             *unit.Manager // the service manager that has started it, nil for none
	// Ready is called with the address once the service can be asked.
	Ready func(address string)
}

// stopTime is how long requests may take to end when the service stops.
const stopTime = 8 * time.Second

// Run runs a service until ctx ends. An error says why it could not start.
func Run(ctx context.Context, o Options) error {
	db, err := model.Open(o.DSN, o.Log)
	if err != nil {
		return err
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	defer pool.Close()
	var certificate tls.Certificate
	if o.Certificate != "" {
		if certificate, err = tls.LoadX509KeyPair(o.Certificate, o.Key); err != nil {
			return fmt.Errorf("the certificate cannot be used: %w", err)
		}
	}
	listener, err := o.Unit.Listen(ctx, unit.TCP, o.Listen)
	if err != nil {
		return err
	}
	hub := &api.Hub{}
	committing, stop := context.WithCancel(context.Background())
	defer stop()
	shelves, err := shelf.Open(committing, db, o.Log)
	if err != nil {
		return fmt.Errorf("find the shelves of the store: %w", err)
	}
	go shelves.Run(committing)
	a := &api.API{DB: db, Shelves: shelves, Search: search.New(shelves), Orders: orders.New(committing, db), Hub: hub, Log: o.Log, Secure: o.Certificate != "", Feeds: ingest.NewFeeds(committing, shelves, hub.Grown)}
	if a.MostBlock, err = model.MostBlock(db); err != nil {
		return fmt.Errorf("ask the database what it takes: %w", err)
	}
	a.Plans = &plans.Book{DB: db}
	roller := &plans.Roller{Book: a.Plans, Orders: a.Orders, Holder: model.NewID(), Tell: a.NoteStep, Failed: func(err error) { o.Log.Warn("a roll-out cannot go on now", "why", err) }}
	go roller.Run(committing)
	watch := &alerts.Watch{DB: db, Log: o.Log}
	if err := watch.Load(ctx); err != nil {
		return fmt.Errorf("read the alerts: %w", err)
	}
	a.Alerts = &alerts.Book{DB: db, Watch: watch}
	a.Carrier = &alerts.Carrier{DB: db, Log: o.Log, Holder: model.NewID(), Now: time.Now, Link: o.Link, Watch: watch}
	judge := &alerts.Judge{DB: db, Shelves: shelves, Log: o.Log, Holder: model.NewID(), Now: time.Now, Watch: watch}
	go watch.Run(committing)
	go judge.Run(committing)
	go a.Carrier.Run(committing)
	go keep.All(committing, shelves, keep.Keeper{Log: o.Log, Now: time.Now, Holder: model.NewID()})
	if o.Certificate != "" {
		a.Fingerprint = fingerprint.Of(certificate.Certificate[0]).String()
	}
	if o.Metrics != "" {
		figures, err := metrics.Listen(o.Metrics, o.Log, a.Figures())
		if err != nil {
			return fmt.Errorf("the figures cannot be served: %w", err)
		}
		defer figures.Close()
		o.Log.Info("the figures are served", "address", "http://"+figures.Address()+metrics.Path)
	}
	ending, end := context.WithCancel(context.Background())
	defer end()
	server := &http.Server{
		Handler: a.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
		BaseContext: func(net.Listener) context.Context { return ending },
	}
	served := make(chan error, 1)
	go func() {
		if o.Certificate != "" {
			server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
			served <- server.ServeTLS(listener, "", "")
		} else {
			served <- server.Serve(listener)
		}
	}()
	warn(o, db, listener.Addr())
	o.Log.Info("service is ready", "address", listener.Addr().String(), "https", o.Certificate != "")
	if o.Certificate != "" {
		o.Log.Info("agents may name the certificate by its fingerprint", "fingerprint", fingerprint.Of(certificate.Certificate[0]))
	}
	o.Ready(listener.Addr().String())
	o.Unit.CloseOthers()
	o.Unit.Ready()
	if limit := o.Unit.Watchdog(); limit > 0 {
		go a.Feeds.Beat(committing, limit/4, o.Unit.Alive)
	}
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
	}
	o.Unit.Stopping()
	o.Log.Info("service stops")
	time.AfterFunc(stopTime/2, end) // live views go on for ever otherwise
	stopping, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if err := server.Shutdown(stopping); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}

// warn tells what will hurt: of the database, of the address that is listened on
// without encryption, and of a key that everybody may read.
func warn(o Options, db *gorm.DB, address net.Addr) {
	found, err := model.Look(db)
	if err != nil {
		o.Log.Warn("it cannot be told how the database is set up", "why", err)
	}
	if at, ok := address.(*net.TCPAddr); ok && o.Certificate == "" && !at.IP.IsLoopback() {
		found = append(found, model.Finding{What: "tokens and passwords come to " + address.String() + " without encryption, for anybody on the way to read", Mend: "give --certificate and --key, or listen on 127.0.0.1 behind a proxy that encrypts"})
	}
	if o.Metrics != "" && !plan.IsLoopback(o.Metrics) {
		found = append(found, model.Finding{What: "whoever reaches " + o.Metrics + " can read the figures of the store, with the names of its casks", Mend: "give --metrics an address of this machine alone, or have the firewall let only the reader in"})
	}
	if st, err := os.Stat(o.Key); o.Key != "" && err == nil && st.Mode().Perm()&0o004 != 0 {
		found = append(found, model.Finding{What: "everybody on this machine may read the private key " + o.Key, Mend: "chmod 600 " + o.Key})
	}
	for _, f := range found {
		o.Log.Warn(f.What, "mend", f.Mend)
	}
}
