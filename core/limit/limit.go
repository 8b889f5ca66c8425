// Package limit bounds how many records come in a time: by a bucket that holds
// a burst and fills at a rate. It depends on nothing.
package limit

import "sync"

// Rate is how many may come.
type Rate struct {
	PerSecond float64 // above 0
	Burst     float64 // at once, 1 or more
}

// Bucket counts for one Rate. The zero Bucket is full. It is not safe for concurrent use.
type Bucket struct {
	missing float64 // of a full bucket
	at      int64   // when that was, in nanoseconds
}

// Take tells whether one more may come at a time in nanoseconds, which does
// not go back; if it does, it counts as the time before.
func (b *Bucket) Take(r Rate, now int64) bool {
	if now > b.at {
		b.missing = max(0, b.missing-r.PerSecond*float64(now-b.at)/1e9)
		b.at = now
	}
	if b.missing+1 > r.Burst {
		return false
	}
	b.missing++
	return true
}

// Shared is a bucket for all. It may be used by several goroutines at a time.
type Shared struct {
	Rate   Rate
	mu     sync.Mutex
	bucket Bucket
}

// Take is that of the bucket.
func (s *Shared) Take(now int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.bucket.Take(s.Rate, now)
}

// Give takes one that was taken back.
func (s *Shared) Give() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.bucket.missing = max(0, s.bucket.missing-1)
}

// Keyed has a bucket for each key. Keys that are not seen for a while are
// forgotten; beyond mostKeys all are, so that nobody can fill the memory with
// made-up ones. It may be used by several goroutines at a time.
type Keyed[K comparable] struct {
	Rate         Rate
	mu           sync.Mutex
	newer, older map[K]*Bucket
	turned       int64 // when newer became older last
}

const mostKeys = 50_000

// Take tells whether one more of a key may come.
func (k *Keyed[K]) Take(key K, now int64) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	full := int64(k.Rate.Burst/k.Rate.PerSecond*1e9) + 1e9 // by then a bucket is full again
	if k.newer == nil || now-k.turned > full || len(k.newer) >= mostKeys {
		k.newer, k.older, k.turned = map[K]*Bucket{}, k.newer, now
	}
	b := k.newer[key]
	if b == nil {
		if b = k.older[key]; b == nil {
			b = new(Bucket)
		}
		k.newer[key] = b
	}
	return b.Take(k.Rate, now)
}
