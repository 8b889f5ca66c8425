package unit

import (
	"context"
	"net"
	"os"
	"syscall"
	"time"
)

// Manager is nil here: what the system's service manager wants to know the command agent tells
// it, and it keeps no sockets.
type Manager struct{}

// Open returns nil.
func Open() *Manager { return nil }

// Manages implements what it does elsewhere.
func (m *Manager) Manages() bool { return false }

// Ready does nothing.
func (m *Manager) Ready() {}

// Reloading does nothing.
func (m *Manager) Reloading() {}

// Stopping does nothing.
func (m *Manager) Stopping() {}

// Status does nothing.
func (m *Manager) Status(string) {}

// Watchdog returns 0, for none.
func (m *Manager) Watchdog() time.Duration { return 0 }

// Alive does nothing.
func (m *Manager) Alive() {}

// Take returns nothing.
func (m *Manager) Take(Network, string) (copied *os.File, path string) { return nil, "" }

// Listen listens at an address.
func (m *Manager) Listen(ctx context.Context, network Network, address string) (net.Listener, error) {
	return new(net.ListenConfig).Listen(ctx, string(network), address)
}

// Has tells that nothing is kept.
func (m *Manager) Has(Network, string) bool { return false }

// Keep keeps nothing.
func (m *Manager) Keep(Network, string, syscall.Conn) {}

// IsLeaving tells that nobody goes on with connections.
func (m *Manager) IsLeaving() bool { return false }

// LetGo tells that nothing is kept.
func (m *Manager) LetGo(Network, string) (gone bool) { return true }

// Rest does nothing: the system's service manager waits by itself.
func (m *Manager) Rest(context.Context, error) {}

// CloseOthers does nothing.
func (m *Manager) CloseOthers() {}
