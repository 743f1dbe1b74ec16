package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/logtext"
	"oskeld.dev/oskeld/internal/core/progress"
)

// anHourAhead builds the program with a clock that is an hour ahead, by laying another time.Now over the
// standard library's. It takes minutes: the whole library is compiled anew.
func anHourAhead(t *testing.T) string {
	t.Helper()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Fatal(err)
	}
	source := filepath.Join(strings.TrimSpace(string(root)), "src", "time", "time.go")
	text, err := os.ReadFile(source)
	if err != nil {
		t.Fatal(err)
	}
	const reads = "sec, nsec, mono := runtimeNow()\n"
	ahead := strings.Replace(string(text), reads, reads+"\tsec += 3600\n", 1)
	if ahead == string(text) {
		t.Fatalf("%s reads the clock otherwise than this test knows", source)
	}
	dir := t.TempDir()
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {source: filepath.Join(dir, "time.go")}})
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"time.go": ahead, "overlay.json": string(overlay)} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	built := filepath.Join(dir, "oskeld")
	if out, err := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", built, "../cmd/oskeld").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return built
}

var aTime = regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d|\b1[5-9]\d{8,17}\b`)

// Nothing that an agent tells holds its clock's time, so that a wrong one does no harm: it tells how long
// things took, and when since the stage began.
func TestAgentsTellNoClock(t *testing.T) {
	w := newWorld(t)
	r := newRepeater(t, w.address, 1)
	c := &chaos{world: w, agents: map[string]*process{}}
	c.join(r.address)
	w.pipeline("hivebook", chaosPipeline)
	if d := w.await(w.start("hivebook", "")); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	reports, segments := 0, 0
	for _, k := range r.kept {
		if strings.HasSuffix(strings.SplitN(k.path, "?", 2)[0], "/report") {
			reports++
			if found := aTime.Find(k.body); found != nil {
				t.Errorf("a report holds the time %s:\n%s", found, k.body)
			}
			continue
		}
		list, err := assignment.ReadSegments(bytes.NewReader(k.body))
		if err != nil {
			t.Fatal(err)
		}
		segments += len(list)
		for _, s := range list {
			lines, err := logtext.Unpack(s.Body, 1)
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range lines {
				if l.MS < 0 || l.MS > time.Minute.Milliseconds() {
					t.Errorf("a line was printed %d ms after the stage began", l.MS)
				}
			}
			s.Body = nil
			if found := aTime.FindString(fmt.Sprintf("%s %+v", k.path, s)); found != "" {
				t.Errorf("a segment's head holds the time %s", found)
			}
		}
	}
	if reports < 4 || segments < 2 {
		t.Errorf("%d reports and %d segments were looked at", reports, segments)
	}
}
