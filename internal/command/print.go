package command

import (
	"fmt"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"
	"oskeld.dev/oskeld/internal/core/progress"
)

// Colours of the terminal, as SGR parameters: its own sixteen, which fit its ground.
const (
	red    = "31"
	green  = "32"
	ember  = "33"
	plum   = "35"
	ochre  = "33"
	faint  = "2"
	strong = "1"
)

func (c *cli) paint(text, colour string) string {
	if !c.terminal() || os.Getenv("NO_COLOR") != "" || colour == "" {
		return text
	}
	return "\x1b[" + colour + "m" + text + "\x1b[0m"
}

var marks = map[progress.State]struct{ mark, colour string }{
	progress.Waiting: {"◇", faint}, progress.Running: {"◈", ember}, progress.Passed: {"◆", green}, progress.Failed: {"⬗", red},
	progress.Stopped: {"⬙", plum}, progress.Skipped: {"‒", faint}, progress.Reused: {"❖", green}, progress.Lost: {"⬦", ochre},
}

// state gives a state's mark and word.
func (c *cli) state(s progress.State) string {
	m := marks[s]
	return c.paint(m.mark+" "+string(s), m.colour)
}

// cell is a piece of a table: text, and the colour it gets after the widths are settled.
type cell struct{ text, colour string }

// table prints rows in columns that fit the terminal. Columns named with a leading ">" stand
// right-aligned. When a row is too wide, the widest column is cut in the middle.
type table struct {
	c     *cli
	heads []string
	rows  [][]cell
}

func (c *cli) table(heads ...string) *table { return &table{c: c, heads: heads} }

func (t *table) row(cells ...any) {
	row := make([]cell, len(cells))
	for i, x := range cells {
		switch x := x.(type) {
		case cell:
			row[i] = x
		case progress.State:
			row[i] = cell{marks[x].mark + " " + string(x), marks[x].colour}
		default:
			row[i] = cell{text: fmt.Sprint(x)}
		}
	}
	t.rows = append(t.rows, row)
}

func (t *table) print() {
	widths := make([]int, len(t.heads))
	right := make([]bool, len(t.heads))
	for i, h := range t.heads {
		h, right[i] = strings.CutPrefix(h, ">")
		t.heads[i] = h
		widths[i] = utf8.RuneCountInString(h)
		for _, r := range t.rows {
			widths[i] = max(widths[i], utf8.RuneCountInString(r[i].text))
		}
	}
	t.fit(widths)
	head := make([]cell, len(t.heads))
	for i, h := range t.heads {
		head[i] = cell{h, faint}
	}
	for _, r := range append([][]cell{head}, t.rows...) {
		var line strings.Builder
		for i, x := range r {
			text := middle(x.text, widths[i])
			pad := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(text))
			if i > 0 {
				line.WriteString("  ")
			}
			if right[i] {
				line.WriteString(pad + t.c.paint(text, x.colour))
			} else {
				line.WriteString(t.c.paint(text, x.colour) + pad)
			}
		}
		fmt.Fprintln(t.c.out, strings.TrimRight(line.String(), " "))
	}
}

// fit narrows the widest columns until a row fits the terminal.
func (t *table) fit(widths []int) {
	if !t.c.terminal() {
		return
	}
	most, _, err := term.GetSize(int(t.c.out.(*os.File).Fd()))
	if err != nil || most < 40 {
		return
	}
	for {
		sum, widest := 2*(len(widths)-1), 0
		for i, w := range widths {
			sum += w
			if w > widths[widest] {
				widest = i
			}
		}
		if sum <= most || widths[widest] <= 8 {
			return
		}
		widths[widest]--
	}
}

// middle cuts a text in its middle, where two of a kind differ least.
func middle(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	left := (width - 1) / 2
	return string(runes[:left]) + "…" + string(runes[len(runes)-(width-1-left):])
}

// size gives bytes as people read them.
func size(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	case n < 1_000_000_000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.2f GB", float64(n)/1e9)
}

// took gives milliseconds as people read them.
func took(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// ago gives a moment as people read it.
func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2 Jan 2006")
}

func short(commit string) string { return commit[:min(7, len(commit))] }

// plainText takes control characters out of what others wrote, so that it cannot move the cursor.
func plainText(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\t' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return -1
		}
		return r
	}, s)
}
