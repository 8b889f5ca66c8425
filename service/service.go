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
	"time"

	"oakbarrel/core/fingerprint"
	"oakbarrel/service/api"
	"oakbarrel/service/ingest"
	"oakbarrel/service/keep"
	"oakbarrel/service/model"
	"oakbarrel/service/orders"
	"oakbarrel/service/search"
)

// Options says how to run a service.
type Options struct {
	Listen           string // HOST:PORT
	DSN              string
	Certificate, Key string // files, for https; both or none
	Log              *slog.Logger
	// Ready is called with the address once the service can be asked.
	Ready func(address string)
}

// stopTime is how long requests may take to end when the service stops.
const stopTime = 8 * time.Second

// Run runs a service until ctx ends. An error says why it could not start.
func Run(ctx context.Context, o Options) error {
	db, err := model.Open(o.DSN)
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
	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return err
	}
	hub := &api.Hub{}
	committing, stop := context.WithCancel(context.Background())
	defer stop()
	a := &api.API{DB: db, Search: search.New(db), Orders: orders.New(committing, db), Hub: hub, Log: o.Log, Secure: o.Certificate != "", Queue: ingest.NewQueue(committing, db, hub.Grown)}
	keeper := &keep.Keeper{DB: db, Log: o.Log, Now: time.Now}
	go keeper.Run(committing)
	if o.Certificate != "" {
		a.Fingerprint = fingerprint.Of(certificate.Certificate[0]).String()
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
	o.Log.Info("service is ready", "address", listener.Addr().String(), "https", o.Certificate != "")
	if o.Certificate != "" {
		o.Log.Info("agents may name the certificate by its fingerprint", "fingerprint", fingerprint.Of(certificate.Certificate[0]))
	}
	o.Ready(listener.Addr().String())
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
	}
	o.Log.Info("service stops")
	time.AfterFunc(stopTime/2, end) // live views go on for ever otherwise
	stopping, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if err := server.Shutdown(stopping); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}
