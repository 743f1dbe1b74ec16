package main

import (
	"context"
	"fmt"
	"log"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/progress"
)

// Of the hand-out: so many agents, and so many stage runs that wait while it is measured.
const (
	handoutAgents = 64
	runsOfBuild   = 100
	mostHandout   = 20 * time.Second
)

// handOut measures how many empty stage runs go from waiting to passed in a second, with agents that take
// and report over the network and run nothing.
func (b *bench) handOut(waiting int) ([]result, error) {
	ctx := context.Background()
	if err := b.swarm(ctx); err != nil {
		return nil, err
	}
	agents, err := b.joinAll(ctx)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for range waiting / runsOfBuild {
		if err := b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines/swarm/builds", map[string]string{}, nil); err != nil {
			return nil, err
		}
	}
	log.Printf("%d stage runs wait after %.1f s", waiting, time.Since(began).Seconds())
	limited, cancel := context.WithTimeout(ctx, mostHandout)
	defer cancel()
	var passed atomic.Int64
	var all sync.WaitGroup
	began = time.Now()
	for _, a := range agents {
		all.Go(func() {
			for limited.Err() == nil && passed.Load() < int64(waiting) {
				given, err := a.Take(limited, beesFree)
				if err != nil {
					continue
				}
				for _, as := range given {
					if passAll(ctx, a, as) == nil {
						passed.Add(int64(len(as.Runs)))
					}
				}
			}
		})
	}
	all.Wait()
	rate := float64(passed.Load()) / time.Since(began).Seconds()
	return []result{{What: fmt.Sprintf("empty stage runs from end to end, %d agents, %d waiting", handoutAgents, waiting), Floor: "", Got: fmt.Sprintf("%.0f/s", rate),
		Ratio: rate / 100, Reach: ">= 100/s", Reached: rate >= 100}}, nil
}

var beesFree = assignment.Call{Facts: facts.Facts{"os": "linux", "bees": "yes"}, Places: 4, Free: 4}

// swarm makes a pipeline of many stage runs that ask for agents of this bench alone.
func (b *bench) swarm(ctx context.Context) error {
	var values []string
	for i := range runsOfBuild {
		values = append(values, fmt.Sprintf("%q", fmt.Sprint(i)))
	}
	return b.pipeline(ctx, "swarm", fmt.Sprintf("[stage.fly]\nfacts = { bees = \"yes\" }\nvary = { bee = [%s] }\nscript = \"true\"\n", strings.Join(values, ", ")))
}

func (b *bench) joinAll(ctx context.Context) (agents []*client.Client, err error) {
	for i := range handoutAgents {
		var join struct {
			Token string `json:"token"`
		}
		if err := b.client.Call(ctx, http.MethodPost, "/api/v1/agents", nil, &join); err != nil {
			return nil, err
		}
		token, err := client.New(b.address, "").Join(ctx, join.Token, fmt.Sprintf("bee-%d", i), beesFree)
		if err != nil {
			return nil, err
		}
		agents = append(agents, client.New(b.address, token))
	}
	return agents, nil
}

// passAll reports each run of an assignment as begun and passed.
func passAll(ctx context.Context, a *client.Client, as assignment.Assignment) error {
	r := assignment.Report{Key: as.Key, Number: 1}
	for _, run := range as.Runs {
		r.Events = append(r.Events, assignment.Event{Kind: assignment.RunStarted, Run: run.Index}, assignment.Event{Kind: assignment.RunEnded, Run: run.Index, State: progress.Passed})
	}
	return a.Report(ctx, r)
}
