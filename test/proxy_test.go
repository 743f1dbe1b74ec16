package test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
)

// wire is a connection to the service that can be cut.
type wire struct {
	address string // for clients
	mu      sync.Mutex
	cut     bool
	conns   map[net.Conn]bool
}

// newWire carries bytes between clients and an address.
func newWire(t *testing.T, to string) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &wire{address: "http://" + l.Addr().String(), conns: map[net.Conn]bool{}}
	t.Cleanup(func() { l.Close(); w.set(true) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go w.carry(c, to)
		}
	}()
	return w
}

func (w *wire) carry(c net.Conn, to string) {
	defer c.Close()
	s, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer s.Close()
	if !w.hold(c, s) {
		return
	}
	defer w.letGo(c, s)
	go func() { _, _ = io.Copy(s, c); s.Close() }()
	_, _ = io.Copy(c, s)
}

func (w *wire) hold(conns ...net.Conn) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range conns {
		w.conns[c] = true
	}
	return !w.cut
}

func (w *wire) letGo(conns ...net.Conn) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range conns {
		delete(w.conns, c)
	}
}

// set cuts the wire, with all that goes over it, or mends it.
func (w *wire) set(cut bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.cut = cut; cut {
		for c := range w.conns {
			c.Close()
		}
	}
}

// between is an address at which each call is given to see, and a handler that passes it on.
func between(t *testing.T, to string, see func(w http.ResponseWriter, r *http.Request, on http.Handler)) (address string) {
	t.Helper()
	at, err := url.Parse(to)
	if err != nil {
		t.Fatal(err)
	}
	on := httputil.NewSingleHostReverseProxy(at)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { see(w, r, on) }))
	t.Cleanup(s.Close)
	return s.URL
}

// repeater sends what agents report and print twice, earlier ones again in between, and all once more on demand.
type repeater struct {
	address string
	to      string
	mu      sync.Mutex
	kept    []kept
	rng     *rand.Rand
	again   int // sent again
}

type kept struct {
	path   string
	header http.Header
	body   []byte
}

func newRepeater(t *testing.T, to string, seed uint64) *repeater {
	t.Helper()
	r := &repeater{to: to, rng: rand.New(rand.NewPCG(seed, 1))}
	r.address = between(t, to, func(w http.ResponseWriter, q *http.Request, on http.Handler) {
		if q.Method != http.MethodPost || !strings.HasSuffix(q.URL.Path, "/agents/report") && !strings.HasSuffix(q.URL.Path, "/agents/log") {
			on.ServeHTTP(w, q)
			return
		}
		body, err := io.ReadAll(q.Body)
		if err != nil {
			return
		}
		for _, k := range r.keep(kept{q.URL.RequestURI(), q.Header.Clone(), body}) {
			r.send(k)
		}
		q.Body = io.NopCloser(bytes.NewReader(body))
		on.ServeHTTP(w, q)
	})
	return r
}

// keep keeps a call, and gives those to be sent before it: itself now and then, and an earlier one.
func (r *repeater) keep(k kept) (before []kept) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.kept) > 0 && r.rng.IntN(2) == 0 {
		before = append(before, r.kept[r.rng.IntN(len(r.kept))])
	}
	if r.rng.IntN(2) == 0 {
		before = append(before, k)
	}
	r.kept = append(r.kept, k)
	return before
}

func (r *repeater) send(k kept) {
	q, err := http.NewRequest(http.MethodPost, r.to+k.path, bytes.NewReader(k.body))
	if err != nil {
		return
	}
	q.Header = k.header.Clone()
	if answer, err := http.DefaultClient.Do(q); err == nil {
		_, _ = io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
		r.mu.Lock()
		r.again++
		r.mu.Unlock()
	}
}

// sendAll sends all that was kept once more, in an order of its own, and forgets it.
func (r *repeater) sendAll() {
	r.mu.Lock()
	all := r.kept
	r.kept = nil
	r.rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	r.mu.Unlock()
	for _, k := range all {
		r.send(k)
	}
}
