package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

const (
	printed     = 200 << 20 // bytes that one step prints
	printScript = "yes 'the heath is wide, the bees are many, and every line is told' | head -c 209715200"
	ticks       = 3000 // lines of the step that a follower follows, 3 ms apart
)

// logs measures how far behind a follower of a printing step is, then a step that prints 200 MB.
func (b *bench) logs() ([]result, error) {
	ctx := context.Background()
	behind, err := b.behind(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := b.printing(ctx)
	return append(rows, behind), err
}

// printing measures a step that prints 200 MB against the same command into a file, the middle of seven each,
// by turns: how long it worked, and how long until all of its log was with the service.
func (b *bench) printing(ctx context.Context) ([]result, error) {
	if err := b.pipeline(ctx, "talker", "[stage.talk]\nscript = \""+printScript+"\"\n"); err != nil {
		return nil, err
	}
	var floors, steps, wholes []time.Duration
	for range 7 {
		time.Sleep(3 * time.Second) // in which the service makes one blob of the log before
		floor, err := b.printIntoFile()
		if err != nil {
			return nil, err
		}
		d, err := b.unwatched(ctx, "talker")
		if err != nil {
			return nil, err
		}
		run := d.Runs[0]
		want := int64(strings.Count("the heath is wide, the bees are many, and every line is told\n", "") - 1)
		if lines := (printed + want - 1) / want; run.Lines != lines {
			return nil, fmt.Errorf("%d lines came, %d were printed", run.Lines, lines)
		}
		floors = append(floors, floor)
		steps = append(steps, time.Duration(run.WorkingMS)*time.Millisecond)
		wholes = append(wholes, run.EndedAt.Sub(*run.StartedAt)-time.Duration(run.PreparingMS)*time.Millisecond)
	}
	_, peak := memory(b.agent.Process.Pid)
	floor, step, whole := quantile(floors, 0.5), quantile(steps, 0.5), quantile(wholes, 0.5)
	return []result{
		{"a step that prints 200 MB", ms(floor), ms(step), float64(step) / float64(floor), "<= 1.25x", step <= floor*5/4},
		{"the same, until its log is with the service", ms(floor), ms(whole), float64(whole) / float64(floor), "<= 6x", whole <= 6*floor},
		{"the agent's memory at its peak", "", fmt.Sprintf("%d MB", peak>>20), float64(peak>>20) / 64, "<= 64 MB", peak <= 64<<20},
	}, nil
}

// printIntoFile runs the printing command by itself, into a new file.
func (b *bench) printIntoFile() (time.Duration, error) {
	file := filepath.Join(b.dir, "printed")
	began := time.Now()
	if out, err := exec.Command("sh", "-euc", printScript+" > "+file).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	return time.Since(began), os.Remove(file)
}

// build starts a build and waits for its end, following it.
func (b *bench) build(ctx context.Context, pipeline string) (view.BuildDetail, error) {
	return b.buildUntil(ctx, pipeline, func(path string) error {
		return b.client.Events(ctx, path+"/follow?after=now", "", func(e client.Event) (bool, error) { return e.Name != "end", nil })
	})
}

// unwatched is build with nobody who reads what is printed.
func (b *bench) unwatched(ctx context.Context, pipeline string) (view.BuildDetail, error) {
	return b.buildUntil(ctx, pipeline, func(path string) error {
		for d := (view.Build{State: progress.Waiting}); !d.State.Over(); {
			time.Sleep(200 * time.Millisecond)
			if err := b.client.Call(ctx, http.MethodGet, path, nil, &d); err != nil {
				return err
			}
		}
		return nil
	})
}

// buildUntil starts a build, lets ended wait for the end of what the API has under a path, and reads it. It
// must have passed.
func (b *bench) buildUntil(ctx context.Context, pipeline string, ended func(path string) error) (d view.BuildDetail, err error) {
	var started view.Build
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines/"+pipeline+"/builds", map[string]string{}, &started); err != nil {
		return d, err
	}
	path := fmt.Sprintf("/api/v1/builds/%s/%d", pipeline, started.Number)
	if err := ended(path); err != nil {
		return d, err
	}
	if err := b.client.Call(ctx, http.MethodGet, path, nil, &d); err != nil {
		return d, err
	}
	if d.State != progress.Passed {
		return d, fmt.Errorf("%s/%d %s: %s", pipeline, started.Number, d.State, d.Cause)
	}
	return d, nil
}

// behind measures how long after it was printed a line is with a follower.
func (b *bench) behind(ctx context.Context) (result, error) {
	script := fmt.Sprintf("import time\nfor i in range(%d):\n    print(time.time_ns(), flush=True)\n    time.sleep(0.003)\n", ticks)
	if err := b.pipeline(ctx, "ticker", "[stage.tick]\nshell = [\"python3\"]\nscript = '''\n"+script+"'''\n"); err != nil {
		return result{}, err
	}
	var started view.Build
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines/ticker/builds", map[string]string{}, &started); err != nil {
		return result{}, err
	}
	var delays []time.Duration
	err := b.client.Events(ctx, fmt.Sprintf("/api/v1/builds/ticker/%d/follow", started.Number), "", func(e client.Event) (bool, error) {
		if e.Name != "lines" {
			return e.Name != "end", nil
		}
		now := time.Now().UnixNano()
		var part view.LogPart
		if err := json.Unmarshal(e.Data, &part); err != nil {
			return false, err
		}
		for _, l := range part.Lines {
			at, err := strconv.ParseInt(l.Text, 10, 64)
			if err != nil {
				return false, err
			}
			delays = append(delays, time.Duration(now-at))
		}
		return true, nil
	})
	if err != nil {
		return result{}, err
	}
	if len(delays) != ticks {
		return result{}, fmt.Errorf("%d lines came, %d were printed", len(delays), ticks)
	}
	p99 := quantile(delays, 0.99)
	return result{fmt.Sprintf("a follower behind a printing step, p99 of %d lines", ticks), "", ms(p99), float64(p99) / float64(200*time.Millisecond), "<= 200 ms", p99 <= 200*time.Millisecond}, nil
}

// crowd measures the service's memory idle and with 200 agents that wait and 50 followers of a printing
// step; then, with 1,000 agents waiting, how long a build takes to its first line.
func (b *bench) crowd() ([]result, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	idle, _ := memory(b.service.Process.Pid)
	var waiting sync.WaitGroup
	if err := b.wait(ctx, &waiting, 0, 200); err != nil {
		return nil, err
	}
	if err := b.pipeline(ctx, "singer", "[stage.sing]\nfacts = { os = \"linux\" }\nscript = \"i=0; while [ $i -lt 1500 ]; do echo hum $i; i=$((i+1)); sleep 0.01; done\"\n"); err != nil {
		return nil, err
	}
	var started view.Build
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines/singer/builds", map[string]string{}, &started); err != nil {
		return nil, err
	}
	var most int64
	var followers sync.WaitGroup
	errs := make([]error, 50)
	for i := range errs {
		followers.Go(func() {
			lines := 0
			errs[i] = b.client.Events(ctx, fmt.Sprintf("/api/v1/builds/singer/%d/follow", started.Number), "", func(e client.Event) (bool, error) {
				var part view.LogPart
				if e.Name == "lines" && json.Unmarshal(e.Data, &part) == nil {
					lines += len(part.Lines)
				}
				if i == 0 {
					now, _ := memory(b.service.Process.Pid)
					most = max(most, now)
				}
				return e.Name != "end", nil
			})
			if errs[i] == nil && lines != 1500 {
				errs[i] = fmt.Errorf("a follower got %d lines of 1500", lines)
			}
		})
	}
	followers.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	rows := []result{
		{"the service idle", "", fmt.Sprintf("%d MB", idle>>20), float64(idle>>20) / 80, "<= 80 MB", idle <= 80<<20},
		{"the service with 200 agents and 50 followers", "", fmt.Sprintf("%d MB", most>>20), float64(most>>20) / 300, "<= 300 MB", most <= 300<<20},
	}
	if err := b.wait(ctx, &waiting, 200, 800); err != nil {
		return nil, err
	}
	more, err := b.firstLine(3)
	cancel()
	waiting.Wait()
	for _, r := range more {
		r.What += ", with 1,000 idle agents"
		rows = append(rows, r)
	}
	return rows, err
}

// wait joins agents that wait for work which never comes, as idle ones do: a held call, and a beat every
// five seconds.
func (b *bench) wait(ctx context.Context, running *sync.WaitGroup, from, n int) error {
	call := assignment.Call{Facts: facts.Facts{"os": "plan", "idle": "yes"}, Places: 1, Free: 1}
	for i := range n {
		var join struct {
			Token string `json:"token"`
		}
		if err := b.client.Call(ctx, http.MethodPost, "/api/v1/agents", nil, &join); err != nil {
			return err
		}
		token, err := client.New(b.address, "").Join(ctx, join.Token, fmt.Sprintf("idle-%d", from+i), call)
		if err != nil {
			return err
		}
		a := client.New(b.address, token)
		running.Go(func() {
			for ctx.Err() == nil {
				_, _ = a.Take(ctx, call)
			}
		})
		running.Go(func() {
			for ctx.Err() == nil {
				_, _ = a.Beat(ctx, call, false)
				select {
				case <-ctx.Done():
				case <-time.After(5 * time.Second):
				}
			}
		})
	}
	return nil
}
