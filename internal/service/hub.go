package service

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/database"
)

// Hub carries news between the goroutines of this process, and through the database to other
// processes. News is only that something about a topic changed: who hears it looks for himself.
type Hub struct {
	db      *database.DB
	log     *slog.Logger
	mu      sync.Mutex
	waiting map[string]map[chan struct{}]struct{}
	out     map[string]struct{} // to be sent to other processes
	wake    chan struct{}
}

// Topics.
const (
	TopicWork    = "work"    // a chain waits for an agent
	TopicOrders  = "orders"  // an agent is to stop something
	TopicErrands = "errands" // an errand is due
	TopicBuilds  = "builds"  // some build moved
	TopicSources = "sources" // a source is to be looked at
)

// TopicBuild is about one build's state, TopicLog about its log.
func TopicBuild(id string) string { return "build:" + id }
func TopicLog(id string) string   { return "log:" + id }

func newHub(db *database.DB, log *slog.Logger) *Hub {
	return &Hub{db: db, log: log, waiting: map[string]map[chan struct{}]struct{}{}, out: map[string]struct{}{}, wake: make(chan struct{}, 1)}
}

// Subscribe gives a channel that holds a value once there is news about the topics.
func (h *Hub) Subscribe(topics ...string) (news <-chan struct{}, cancel func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, t := range topics {
		if h.waiting[t] == nil {
			h.waiting[t] = map[chan struct{}]struct{}{}
		}
		h.waiting[t][c] = struct{}{}
	}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, t := range topics {
			delete(h.waiting[t], c)
			if len(h.waiting[t]) == 0 {
				delete(h.waiting, t)
			}
		}
	}
}

// Tell spreads news about topics, here at once and elsewhere within milliseconds. Call it after
// the change has been committed.
func (h *Hub) Tell(topics ...string) {
	h.mu.Lock()
	for _, t := range topics {
		h.out[t] = struct{}{}
		h.wakeUp(t)
	}
	h.mu.Unlock()
	select {
	case h.wake <- struct{}{}:
	default:
	}
}

func (h *Hub) wakeUp(topic string) {
	for c := range h.waiting[topic] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// hear passes on what another process told; "" stands for everything, after a gap.
func (h *Hub) hear(topic string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if topic != "" {
		h.wakeUp(topic)
		return
	}
	for t := range h.waiting {
		h.wakeUp(t)
	}
}

func (h *Hub) run(ctx context.Context) {
	go h.db.Listen(ctx, h.hear)
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.wake:
		}
		h.mu.Lock()
		topics := make([]string, 0, len(h.out))
		for t := range h.out {
			topics = append(topics, t)
		}
		clear(h.out)
		h.mu.Unlock()
		if err := h.db.Notify(ctx, topics); err != nil && ctx.Err() == nil {
			h.log.Warn("news could not be sent to other services", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Millisecond): // notifying transactions wait for each other: gather
		}
	}
}
