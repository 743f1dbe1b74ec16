package service

import (
	"context"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/database"
)

// waitingDemands is what chains wait for, read once for all agents of this process that are woken by the
// same news: most of a thousand idle ones see in it that nothing is for them, and ask no further.
type waitingDemands struct {
	mu   sync.Mutex
	at   time.Time // when it was asked for
	list []database.Demand
}

// since gives the demands as they were at a moment, or later.
func (w *waitingDemands) since(ctx context.Context, db *database.DB, moment time.Time) ([]database.Demand, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.at.Before(moment) {
		return w.list, nil
	}
	at := time.Now()
	list, err := db.WaitingDemands(ctx)
	if err == nil {
		w.at, w.list = at, list
	}
	return list, err
}
