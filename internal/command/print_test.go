package command

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/promotion"
	"oskeld.dev/oskeld/internal/core/view"
)

// played answers like a service that holds one build and one artifact of the heath.
func played(t *testing.T) (run func(args ...string) (string, int)) {
	t.Helper()
	begun := time.Now().Add(-time.Hour)
	started, ended := begun.Add(time.Second), begun.Add(112*time.Second)
	exit := 1
	b := view.BuildDetail{
		Build: view.Build{Pipeline: "hivebook", Number: 57, State: progress.Failed, Cause: "test: 2 of 214 tests failed", Ref: "main", Commit: "8c1f2e0aa", Branch: "main",
			Subject: "Count brood frames \x1b[31mper box", Version: "1.4.1-main.57", StartedBy: "ida", CreatedAt: begun, StartedAt: &started, EndedAt: &ended},
		Derivation: "1.4.1-main.57 from a rule", Since: 56,
		Runs: []view.StageRun{
			{Name: "test", State: progress.Failed, Cause: "2 of 214 tests failed", Agent: "barrow", Critical: true, StartedAt: &started, EndedAt: &ended,
				Steps: []view.Step{{Name: "go test", State: progress.Failed, Exit: &exit}}, Tests: &view.TestSum{Total: 214, Passed: 212, Failed: 2}, Times: view.Times{WaitingMS: 1000, WorkingMS: 110000}},
			{Index: 1, Name: "package", State: progress.Skipped, Cause: "needs test, which failed", Needs: []int{0}},
		},
		Failed:    []view.FailedTest{{Stage: "test", Suite: "heath/forage", Name: "TestForageDays/late_frost", Message: "got 3, want 2", Since: "new"}},
		Changes:   []view.Change{{Commit: "8c1f2e0aa", Author: "Ida Roan", Subject: "Count brood frames per box"}},
		Inputs:    []view.Input{{Store: "heath-go", Name: "nectar", Version: "2.2.0", Path: "nectar.tar.gz", Stage: "restore"}},
		Artifacts: []view.Artifact{{Store: "intake", Name: "hivebook", Version: "1.4.1-main.57", State: "dropped"}},
	}
	digest := artifact.DigestOf([]byte("zip"))
	a := view.ArtifactDetail{Artifact: view.Artifact{Store: "shelf", Name: "hivebook", Version: "1.4.0", State: "sealed", Files: 1, Size: 3, Content: digest, Build: "hivebook/44", Tag: "v1.4.0", Commit: "9ab3310", Marks: []string{"stable"}},
		Contents: []artifact.File{{Path: "hivebook.zip", Size: 3, Digest: digest}},
		Admitted: &view.Promotion{From: "proving/hivebook@1.4.0", By: "nell", CreatedAt: begun, Verdicts: []promotion.Verdict{{Say: "Tests ran", Met: true, Seen: "214 ran"}}}}
	answers := map[string]any{
		"GET /api/v1/builds":                           map[string]any{"list": []view.Build{b.Build}},
		"GET /api/v1/builds/hivebook/57":               b,
		"GET /api/v1/artifact":                         a,
		"GET /api/v1/trace/" + string(digest):          view.Trace{Digest: digest, Places: []view.TracePlace{{Artifact: a.Artifact, Path: "hivebook.zip", Admitted: a.Admitted}}, Build: &b, Uses: []view.Use{{Build: "smoker/3", Version: "0.2.0", At: begun}}},
		"GET /api/v1/stores":                           map[string]any{"list": []view.Store{}},
		"POST /api/v1/promotions":                      view.Promotion{From: "intake/hivebook@1.4.1-main.57", To: "shelf", Cause: "not met: No fresh error", Verdicts: []promotion.Verdict{{Say: "No fresh error", Seen: "1 fresh"}}},
		"GET /files/shelf/hivebook/1.4.0/hivebook.zip": nil,
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out, ok := answers[r.Method+" "+r.URL.Path]
		switch {
		case strings.HasSuffix(r.URL.Path, "/follow"):
			text, _ := json.Marshal(b)
			lines, _ := json.Marshal(view.LogPart{Run: 0, Fence: 1, Lines: []view.LogLine{{Number: 1, Text: "10%\r100%"}, {Number: 2, Text: "bad \x1b]0;title\x07news", Error: true}}})
			fmt.Fprintf(w, "event: build\nid: 0\ndata: %s\n\nevent: lines\nid: 1\ndata: %s\n\nevent: end\nid: 1\ndata: {}\n\n", text, lines)
		case !ok:
			w.WriteHeader(http.StatusNotFound)
			fmt.Fprintf(w, `{"type":"urn:oskeld:problem:missing","detail":"no %s","hint":"look again"}`, r.URL.Path)
		case out == nil:
			fmt.Fprint(w, "zip")
		default:
			_ = json.NewEncoder(w).Encode(out)
		}
	}))
	t.Cleanup(s.Close)
	t.Setenv("OSKELD_SESSION", filepath.Join(t.TempDir(), "session.json"))
	t.Setenv("OSKELD_SERVICE", s.URL)
	t.Setenv("OSKELD_TOKEN", "okp_x")
	return func(args ...string) (string, int) {
		var out, errs bytes.Buffer
		code := Run(t.Context(), args, strings.NewReader(""), &out, &errs)
		return out.String() + errs.String(), code
	}
}

// What people read, command by command; control characters of others never reach the terminal.
func TestWhatPeopleRead(t *testing.T) {
	run := played(t)
	dir := t.TempDir()
	for _, c := range []struct {
		args []string
		code int
		want []string
	}{
		{[]string{"builds"}, 0, []string{"build        state     version        from  commit", "hivebook/57  ⬗ failed  1.4.1-main.57  main  8c1f2e0  1 min 52 s"}},
		{[]string{"show", "hivebook/57"}, 0, []string{"⬗ failed hivebook/57  1.4.1-main.57", "test: 2 of 214 tests failed", "test ·", "212/214", "‒ skipped", "new TestForageDays/late_frost heath/forage", "got 3, want 2",
			"changes, since hivebook/56 passed", "heath-go/nectar@2.2.0#nectar.tar.gz  in restore", "intake/hivebook@1.4.1-main.57  dropped"}},
		{[]string{"follow", "hivebook/57"}, 1, []string{"⬗ failed test in 1 min 51 s: 2 of 214 tests failed", "test │ 100%\n", "test │ bad ]0;titlenews", "⬗ failed hivebook/57 1.4.1-main.57 after 1 min 52 s"}},
		{[]string{"show", "shelf/hivebook:stable"}, 0, []string{"shelf/hivebook@1.4.0  sealed  [stable]", "made by build hivebook/44 from v1.4.0", "◆ Tests ran  214 ran", "fetch it: oskeld fetch shelf/hivebook@1.4.0"}},
		{[]string{"fetch", "shelf/hivebook@1.4.0", "--into", dir}, 0, []string{"hivebook.zip  3 B  sha256:"}},
		{[]string{"trace", filepath.Join(dir, "hivebook.zip")}, 0, []string{"shelf/hivebook@1.4.0#hivebook.zip [stable]  promoted by nell", "made by hivebook/57", "took in heath-go/nectar@2.2.0", "taken in by", "smoker/3 0.2.0"}},
		{[]string{"trace", "shelf/hivebook@1.4.0#hivebook.zip"}, 0, []string{"made by hivebook/57"}},
		{[]string{"trace", "shelf/hivebook@1.4.0#other.zip"}, 3, []string{"has no file"}},
		{[]string{"trace", "neither"}, 3, []string{"neither a file here, nor a digest, nor an artifact"}},
		{[]string{"promote", "intake/hivebook@1.4.1-main.57", "--to", "shelf"}, 4, []string{"⬗ No fresh error  1 fresh", "is not admitted to shelf: not met: No fresh error"}},
		{[]string{"promote", "intake/hivebook@1.4.1-main.57"}, 2, []string{`required flag(s) "to" not set`, "→ write oskeld promote STORE/NAME@VERSION --to STORE [flags]; oskeld promote --help tells more"}},
		{[]string{"frob"}, 2, []string{"unknown command", "→ oskeld --help lists the commands"}},
		{[]string{"builds", "one", "two"}, 2, []string{"→ write oskeld builds", "oskeld builds --help tells more"}},
		{[]string{"show", "hivebook/57", "--tail"}, 2, []string{"unknown flag: --tail", "→ write oskeld show", "oskeld show --help tells more"}},
		{[]string{"store", "list"}, 0, []string{"no store yet: oskeld store add NAME --project PROJECT"}},
		{[]string{"list", "nowhere"}, 3, []string{"oskeld: no /api/v1/stores/nowhere/artifacts\n  → look again"}},
		{[]string{"show", "hivebook/x"}, 2, []string{"does not name a build", "PIPELINE/NUMBER"}},
		{[]string{"fetch", "shelf/hivebook"}, 2, []string{"does not name an artifact"}},
		{[]string{"fetch", "shelf/hivebook@1.4.0#nothing"}, 3, []string{`has no file "nothing"`}},
		{[]string{"secret", "set", "KEY", "--project", "heath"}, 3, []string{"no /api/v1/projects/heath/secrets/KEY"}},
		{[]string{"source"}, 0, []string{"add", "list", "show", "set"}},
		{[]string{"source", "lsit"}, 2, []string{"oskeld source has no command \"lsit\"", "did you mean \"list\"?"}},
	} {
		out, code := run(c.args...)
		if code != c.code {
			t.Errorf("%v: exit %d, want %d\n%s", c.args, code, c.code, out)
		}
		for _, want := range c.want {
			if !strings.Contains(out, want) {
				t.Errorf("%v does not say %q:\n%s", c.args, want, out)
			}
		}
		if strings.ContainsAny(out, "\x1b\x07\r") {
			t.Errorf("%v lets control characters through: %q", c.args, out)
		}
	}
	for _, args := range [][]string{{"builds", "--json"}, {"show", "hivebook/57", "--json"}, {"show", "shelf/hivebook@1.4.0", "--json"}} {
		out, code := run(args...)
		if code != 0 || !json.Valid([]byte(out)) {
			t.Errorf("%v: exit %d, no JSON:\n%s", args, code, out)
		}
	}
}

// A file that came with another digest than promised is not kept.
func TestFetchChecks(t *testing.T) {
	run := played(t)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/files/") {
			fmt.Fprint(w, "harmed")
			return
		}
		_ = json.NewEncoder(w).Encode(view.ArtifactDetail{Artifact: view.Artifact{Store: "shelf", Name: "hivebook", Version: "1.4.0"},
			Contents: []artifact.File{{Path: "bin/hivebook", Size: 6, Digest: artifact.DigestOf([]byte("whole!"))}}})
	}))
	defer s.Close()
	t.Setenv("OSKELD_SERVICE", s.URL)
	dir := t.TempDir()
	out, code := run("fetch", "shelf/hivebook@1.4.0", "--into", dir)
	if code != 4 || !strings.Contains(out, "came with the digest") {
		t.Errorf("exit %d: %s", code, out)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "bin", "*")); len(left) > 0 {
		t.Errorf("kept: %v", left)
	}
}

func TestExitCodes(t *testing.T) {
	for err, want := range map[error]int{fault.Missing("x"): 3, fault.Refused("x"): 4, fault.Conflict("x"): 4, fault.Unknown("x"): 4, fault.Unavailable("x"): 5, fault.Invalid("x"): 2, os.ErrClosed: 2} {
		if got := exitCode(err); got != want {
			t.Errorf("%v: %d, want %d", err, got, want)
		}
	}
}

func TestKeyFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	made, err := loadKey(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Error(info.Mode(), err)
	}
	if again, err := loadKey(path); err != nil || again != made {
		t.Error("another key came back", err)
	}
	for _, bad := range []string{"", "abcd", strings.Repeat("zz", 32)} {
		if err := os.WriteFile(path, []byte(bad), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := loadKey(path); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestWatched(t *testing.T) {
	for seconds, want := range map[int]string{0: "not looked at", 30: "every 30s;", 60: "every 1m;", 90: "every 1m30s;", 600: "every 10m;", 3600: "every 1h;"} {
		if got := watched(view.Source{Name: "hivebook", PollS: seconds}); !strings.Contains(got, want) {
			t.Errorf("%d: %s", seconds, got)
		}
	}
	for text, want := range map[string]int{"off": 0, "30s": 30, "1h": 3600} {
		if got, err := pollSeconds(text); got != want || err != nil {
			t.Errorf("%s: %d %v", text, got, err)
		}
	}
	for _, bad := range []string{"", "0", "soon", "10ms", "48h", "-5m"} {
		if _, err := pollSeconds(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}
