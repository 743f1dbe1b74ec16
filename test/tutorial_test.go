package test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// block is a fenced block of a page: commands of a shell, and what they must say.
type block struct {
	commands string
	says     []string
}

// blocksOf reads the blocks of a page in order. Those for another shell are left out.
func blocksOf(t *testing.T, page string) (list []block) {
	t.Helper()
	text, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile("(?ms)^```(sh|text)\n(.*?)^```$").FindAllStringSubmatch(string(text), -1) {
		if m[1] == "sh" {
			list = append(list, block{commands: m[2]})
			continue
		}
		last := &list[len(list)-1]
		last.says = strings.Split(strings.TrimSpace(m[2]), "\n")
	}
	return list
}

// said tells whether a line was said, in the order of its words; "…" stands for anything.
func said(out, line string) bool {
	parts := strings.Split(line, "…")
	for i, part := range parts {
		words := strings.Fields(part)
		for j, w := range words {
			words[j] = regexp.QuoteMeta(w)
		}
		parts[i] = strings.Join(words, `\s+`)
	}
	return regexp.MustCompile(strings.Join(parts, `.*`)).MatchString(out)
}

// Whoever follows the tutorial sees what it says.
func TestTutorial(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2", "--env", "GOCACHE="+goCache(t))
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "bin"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(program, filepath.Join(dir, "bin", "oskeld")); err != nil {
		t.Fatal(err)
	}
	blocks := blocksOf(t, "../docs/first-pipeline.md")
	if len(blocks) < 10 {
		t.Fatalf("only %d blocks", len(blocks))
	}
	state := filepath.Join(dir, "state") // the shell goes on from block to block
	if err := os.WriteFile(state, []byte("cd "+dir+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, b := range blocks {
		b.commands = strings.ReplaceAll(b.commands, "oskeld project add heath", "true # it is there") // by newWorld
		b.commands = strings.ReplaceAll(b.commands, "oskeld store add intake --project heath", "true")
		cmd := exec.CommandContext(t.Context(), "sh", "-eu", "-c", ". "+state+"\n"+b.commands+"\n{ echo \"cd '$PWD'\"; echo \"export PATH='$PATH'\"; } > "+state)
		cmd.Env = append(os.Environ(), "OSKELD_SESSION="+w.session, "OSKELD_SERVICE=", "OSKELD_TOKEN=", "NO_COLOR=1", "HOME="+dir, "GOCACHE="+goCache(t),
			"GIT_AUTHOR_NAME=Ida", "GIT_AUTHOR_EMAIL=ida@heath.example", "GIT_COMMITTER_NAME=Ida", "GIT_COMMITTER_EMAIL=ida@heath.example")
		out, err := cmd.CombinedOutput()
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			t.Fatalf("exit %d from\n%s\n%s", exit.ExitCode(), b.commands, out)
		} else if err != nil {
			t.Fatal(err)
		}
		for _, line := range b.says {
			if !said(string(out), line) {
				t.Errorf("%q was not said by\n%s\n%s", line, b.commands, out)
			}
		}
	}
}
