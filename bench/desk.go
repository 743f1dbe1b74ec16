package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// onTheDesk measures what needs no service: whole commands, from their start to their end.
func onTheDesk() ([]result, error) {
	dir, err := os.MkdirTemp("", "oskeld-bench-desk-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	program, err := filepath.Abs("bin/oskeld")
	if err != nil {
		return nil, err
	}
	var rows []result
	for _, measure := range []func(dir, program string) (result, error){rehearsing, checkingSmall, checkingLarge, proposing} {
		sub, err := os.MkdirTemp(dir, "")
		if err != nil {
			return nil, err
		}
		row, err := measure(sub, program)
		if err != nil {
			return nil, err
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// timed runs a command n times and gives the median.
func timed(n int, dir string, name string, args ...string) (time.Duration, error) {
	var list []time.Duration
	for range n {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		began := time.Now()
		if out, err := cmd.CombinedOutput(); err != nil {
			return 0, fmt.Errorf("%s %v: %w: %s", name, args, err, out)
		}
		list = append(list, time.Since(began))
	}
	return quantile(list, 0.5), nil
}

const deskSteps = 20

func rehearsing(dir, program string) (result, error) {
	pipeline := "pipeline = \"p\"\n[stage.one]\n" + strings.Repeat("[[stage.one.step]]\nscript = \"echo one\"\n", deskSteps)
	if err := os.WriteFile(filepath.Join(dir, "oskeld.toml"), []byte(pipeline), 0o644); err != nil {
		return result{}, err
	}
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=Ida", "-c", "user.email=ida@heath.example", "commit", "-qm", "Begin"}} {
		if out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput(); err != nil {
			return result{}, fmt.Errorf("git %v: %w: %s", args, err, out)
		}
	}
	var floors []time.Duration
	for range 9 {
		began := time.Now()
		for range deskSteps {
			if err := exec.Command("sh", "-eu", "-c", "echo one").Run(); err != nil {
				return result{}, err
			}
		}
		floors = append(floors, time.Since(began))
	}
	floor := quantile(floors, 0.5)
	got, err := timed(9, dir, program, "rehearse", "--quiet")
	reach := floor + 60*time.Millisecond + deskSteps*5*time.Millisecond
	return result{"rehearse of 20 one-line steps", ms(floor), ms(got), float64(got) / float64(floor), "floor + 60 ms + 5 ms a step", got <= reach}, err
}

func checkingSmall(dir, program string) (result, error) {
	return checking(dir, program, "check of a small file, the whole command", "demo/sources/hivebook/1-hives/oskeld.toml", "<= 50 ms", 50*time.Millisecond)
}

func checkingLarge(dir, program string) (result, error) {
	var text strings.Builder
	text.WriteString("pipeline = \"p\"\n[ask.deep]\nflag = true\n")
	for i := range 250 {
		fmt.Fprintf(&text, "[stage.s%d]\n# %d\nfacts = { os = \"linux\", go = \">=1.22\" }\nwhen = \"ask.deep || source.branch == 'b%d'\"\nlimit = \"10m\"\nenv = { A = \"b\" }\ncarry = [\"out%d/**\"]\n\n", i, i, i, i)
		fmt.Fprintf(&text, "[[stage.s%d.step]]\nname = \"one\"\nscript = \"\"\"\ntrue\n\"\"\"\n\n[[stage.s%d.step]]\nname = \"two\"\nscript = \"true\"\nlimit = \"1m\"\n\n", i, i)
	}
	file := filepath.Join(dir, "large.toml")
	if err := os.WriteFile(file, []byte(text.String()), 0o644); err != nil {
		return result{}, err
	}
	return checking(dir, program, "check of a file of 5,000 lines", file, "<= 100 ms", 100*time.Millisecond)
}

// checking compares with a program that only starts.
func checking(_, program, what, file, reach string, most time.Duration) (result, error) {
	floor, err1 := timed(9, ".", program, "--version")
	got, err2 := timed(9, ".", program, "check", file)
	return result{what, ms(floor) + " to start", ms(got), float64(got) / float64(floor), reach, got <= most}, errors.Join(err1, err2)
}

func proposing(dir, program string) (result, error) {
	const files = 100_000
	for i := range files {
		at := filepath.Join(dir, fmt.Sprintf("src/%d/%d", i%100, i%1000))
		if i < 1000 {
			if err := os.MkdirAll(at, 0o755); err != nil {
				return result{}, err
			}
		}
		if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("f%d.go", i)), nil, 0o644); err != nil {
			return result{}, err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module x\n\ngo 1.22\n"), 0o644); err != nil {
		return result{}, err
	}
	floor, err1 := timed(3, dir, "find", ".", "-type", "f")
	got, err2 := timed(3, dir, program, "propose", "--print")
	return result{"propose for a tree of 100,000 files", ms(floor) + ", find", ms(got), float64(got) / float64(floor), "<= 2 s", got <= 2*time.Second}, errors.Join(err1, err2)
}
