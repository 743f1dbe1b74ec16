package command

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/term"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/rehearsal"
)

// stageView shows a rehearsal while it runs. In a terminal the running stages stand at the foot, each
// with its step, its time and the last lines it printed, and what has ended stands above; elsewhere
// every line is printed as it comes.
type stageView struct {
	c     *cli
	live  bool
	began time.Time
	done  chan struct{}
	gone  sync.WaitGroup

	mu    sync.Mutex
	runs  []shownRun
	drawn int // lines at the foot
}

type shownRun struct {
	rehearsal.Result
	tail []string
}

// tailLines is how many of the last lines are shown of a running stage, and of one that failed.
const (
	tailLines   = 4
	failedLines = 24
)

func (c *cli) stageView(r *rehearsal.Rehearsal) *stageView {
	v := &stageView{c: c, live: c.terminal() && !c.json, began: time.Now(), done: make(chan struct{}), runs: make([]shownRun, len(r.Plan.Runs))}
	for i, run := range r.Plan.Runs {
		v.runs[i].Result = rehearsal.Result{Run: run.Title(), State: progress.Waiting}
	}
	if v.live {
		v.gone.Go(v.redraw)
	}
	return v
}

// redraw keeps times and lines up to date.
func (v *stageView) redraw() {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-v.done:
			return
		case <-tick.C:
			v.mu.Lock()
			v.draw("")
			v.mu.Unlock()
		}
	}
}

func (v *stageView) end() {
	close(v.done)
	v.gone.Wait()
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.live {
		v.erase()
	}
}

func (v *stageView) say(text string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.c.json {
		return
	}
	v.print(v.c.paint(text, ochre))
}

// print prints a line that stays.
func (v *stageView) print(line string) {
	if v.live {
		v.draw(line + "\n")
		return
	}
	fmt.Fprintln(v.c.out, line)
}

func (v *stageView) moved(run int, r rehearsal.Result) {
	v.mu.Lock()
	defer v.mu.Unlock()
	s := &v.runs[run]
	was := s.State
	s.Result = r
	if v.c.json || r.State == was {
		return
	}
	switch {
	case r.State == progress.Running && !v.live:
		v.print(v.c.state(r.State) + " " + v.c.paint(r.Run, strong))
	case r.State.Over():
		text := v.c.state(r.State) + " " + v.c.paint(r.Run, strong)
		if r.Took > 0 {
			text += " in " + took(r.TookMS)
		}
		if r.Cause != "" {
			text += ": " + plainText(r.Cause)
		}
		if v.live && r.State == progress.Failed {
			text = failedText(v.c, s.tail, text)
		}
		v.print(text)
	}
}

// failedText is the outcome of a stage with the last lines that it printed.
func failedText(c *cli, tail []string, outcome string) string {
	var b strings.Builder
	for _, line := range tail {
		b.WriteString(c.paint("  │ ", faint) + line + "\n")
	}
	return b.String() + outcome
}

func (v *stageView) lines(run int, lines []view.LogLine) {
	v.mu.Lock()
	defer v.mu.Unlock()
	s := &v.runs[run]
	for _, l := range lines {
		text := l.Text
		if i := strings.LastIndexByte(text, '\r'); i >= 0 { // a progress bar shows as its last state
			text = text[i+1:]
		}
		text = plainText(text)
		switch {
		case v.c.json:
		case v.live:
			s.tail = append(s.tail, text)
			if len(s.tail) > failedLines {
				s.tail = s.tail[len(s.tail)-failedLines:]
			}
		default:
			if l.Error {
				text = v.c.paint(text, ember)
			}
			fmt.Fprintf(v.c.out, "%s %s\n", v.c.paint(s.Run+" │", faint), text)
		}
	}
}

// erase takes the foot away.
func (v *stageView) erase() {
	if v.drawn > 0 {
		fmt.Fprintf(v.c.out, "\x1b[%dA\x1b[J", v.drawn)
		v.drawn = 0
	}
}

// draw writes what stays, and the foot below it, in one write so that nothing flickers.
func (v *stageView) draw(stays string) {
	width, height := 80, 24
	if f, ok := v.c.out.(*os.File); ok {
		if w, h, err := term.GetSize(int(f.Fd())); err == nil && w > 20 && h > 4 {
			width, height = w, h
		}
	}
	foot := v.foot(width, height-2)
	var b strings.Builder
	if v.drawn > 0 {
		fmt.Fprintf(&b, "\x1b[%dA\x1b[J", v.drawn)
	}
	b.WriteString(stays)
	for _, line := range foot {
		b.WriteString(line + "\n")
	}
	v.drawn = len(foot)
	fmt.Fprint(v.c.out, b.String())
}

// foot gives the lines for the stages that run, at most most.
func (v *stageView) foot(width, most int) (lines []string) {
	ended, running := 0, 0
	for i := range v.runs {
		if v.runs[i].State.Over() {
			ended++
		} else if v.runs[i].State == progress.Running {
			running++
		}
	}
	room := tailLines
	if running > 0 {
		room = max(0, min(tailLines, (most-1)/running-1))
	}
	for i := range v.runs {
		s := &v.runs[i]
		if s.State != progress.Running || len(lines)+1 >= most {
			continue
		}
		head := fmt.Sprintf("%s  %s", s.Run, took(time.Since(s.Began).Milliseconds()))
		if step := currentStep(s.Steps); step != "" {
			head += "  " + step
		}
		lines = append(lines, v.c.paint("◈ ", ember)+middle(head, width-3))
		for _, line := range s.tail[max(0, len(s.tail)-room):] {
			lines = append(lines, v.c.paint("  │ "+middle(line, width-5), faint))
		}
	}
	summary := fmt.Sprintf("%d of %s, %s", ended, count(len(v.runs), "stage run"), took(time.Since(v.began).Milliseconds()))
	return append(lines, v.c.paint(summary, faint))
}

// currentStep names the step that runs, and which of how many it is.
func currentStep(steps []view.Step) string {
	for i, s := range steps {
		if s.State != progress.Running {
			continue
		}
		name := s.Name
		if utf8.RuneCountInString(name) > 50 {
			name = middle(name, 50)
		}
		if len(steps) == 1 {
			return plainText(name)
		}
		return fmt.Sprintf("step %d of %d: %s", i+1, len(steps), plainText(name))
	}
	return ""
}
