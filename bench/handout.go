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
// and report over the network and run nothing; and what that costs where builds are ten times as large.
func (b *bench) handOut(waiting int) ([]result, error) {
	ctx := context.Background()
	rate, err := b.swarm(ctx, "bees", runsOfBuild, waiting)
	if err != nil {
		return nil, err
	}
	large, err := b.swarm(ctx, "wasps", 10*runsOfBuild, waiting)
	if err != nil {
		return nil, err
	}
	return []result{{What: fmt.Sprintf("empty stage runs from end to end, %d agents, %d waiting", handoutAgents, waiting), Floor: "", Got: fmt.Sprintf("%.0f/s", rate),
		Ratio: rate / 100, Reach: ">= 100/s", Reached: rate >= 100},
		{What: fmt.Sprintf("the same in builds of %d stage runs, against builds of %d", 10*runsOfBuild, runsOfBuild), Floor: fmt.Sprintf("%.0f/s", rate), Got: fmt.Sprintf("%.0f/s", large),
			Ratio: large / rate, Reach: ">= 0.7", Reached: large >= 0.7*rate}}, nil
}

// swarm lets agents of a kind work at builds for them alone, and gives the stage runs a second.
func (b *bench) swarm(ctx context.Context, kind string, runs, waiting int) (rate float64, err error) {
	values := make([]string, runs)
	for i := range values {
		values[i] = fmt.Sprintf("%q", fmt.Sprint(i))
	}
	if err := b.pipeline(ctx, kind, fmt.Sprintf("[stage.fly]\nfacts = { %s = \"yes\" }\nvary = { one = [%s] }\nscript = \"true\"\n", kind, strings.Join(values, ", "))); err != nil {
		return 0, err
	}
	call := assignment.Call{Facts: facts.Facts{"os": "linux", kind: "yes"}, Places: 4, Free: 4}
	agents, err := b.joinAll(ctx, kind, call)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	for range waiting / runs {
		if err := b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines/"+kind+"/builds", map[string]string{}, nil); err != nil {
			return 0, err
		}
	}
	log.Printf("%d stage runs in builds of %d wait after %.1f s", waiting, runs, time.Since(began).Seconds())
	limited, cancel := context.WithTimeout(ctx, mostHandout)
	defer cancel()
	var passed atomic.Int64
	var all sync.WaitGroup
	began = time.Now()
	for _, a := range agents {
		all.Go(func() {
			for limited.Err() == nil && passed.Load() < int64(waiting) {
				given, err := a.Take(limited, call)
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
	return float64(passed.Load()) / time.Since(began).Seconds(), nil
}

func (b *bench) joinAll(ctx context.Context, kind string, call assignment.Call) (agents []*client.Client, err error) {
	for i := range handoutAgents {
		var join struct {
			Token string `json:"token"`
		}
		if err := b.client.Call(ctx, http.MethodPost, "/api/v1/agents", nil, &join); err != nil {
			return nil, err
		}
		token, err := client.New(b.address, "").Join(ctx, join.Token, fmt.Sprintf("%s-%d", kind, i), call)
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
