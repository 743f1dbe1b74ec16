package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/signature"
	"oskeld.dev/oskeld/internal/core/view"
)

const startRules = `
[version]
untagged = "{tag.next_patch}-{branch}.{number}"
[[start]]
push = ["main", "release/**"]
unless = ["docs/**"]
[[start]]
tag = ["v*"]
[stage.a]
script = "echo built"
`

// bare makes a bare repository with a first commit and binds a pipeline of it, which nothing polls.
func (w *world) bare(name, file string) (work repo, bare string) {
	w.t.Helper()
	work = w.repo(name)
	work.commit("Begin", map[string]string{"oskeld.toml": fmt.Sprintf("pipeline = %q\n%s", name, file)})
	bare = filepath.Join(w.dir, name+".git")
	work.git("clone", "-q", "--bare", ".", bare)
	work.git("remote", "add", "origin", bare)
	w.ok("source", "add", name, bare, "--project", "heath", "--trust", "*", "--poll", "off")
	w.ok("pipeline", "add", name, "--source", name)
	w.settled(name)
	return work, bare
}

// settled waits until a source has been looked at for the first time.
func (w *world) settled(source string) {
	w.t.Helper()
	w.until("source "+source+" was looked at", func() bool {
		var s view.Source
		return w.owner.Call(w.t.Context(), http.MethodGet, "/api/v1/sources/"+source, nil, &s) == nil && s.LookedAt != nil
	})
}

// occurrences waits until n things have happened to a pipeline, and lists them, the newest first.
func (w *world) occurrences(pipeline string, n int) (list client.List[view.Occurrence]) {
	w.t.Helper()
	w.until(fmt.Sprintf("%d starts or none of %s", n, pipeline), func() bool {
		err := w.owner.Call(w.t.Context(), http.MethodGet, "/api/v1/pipelines/"+pipeline+"/starts", nil, &list)
		return err == nil && len(list.List) >= n
	})
	if len(list.List) != n {
		w.t.Fatalf("%d occurrences, want %d: %+v", len(list.List), n, list.List)
	}
	return list
}

func hookOfDocs(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("../docs/starts.md")
	if err != nil {
		t.Fatal(err)
	}
	_, hook, ok := strings.Cut(string(text), "```sh\n")
	hook, _, closed := strings.Cut(hook, "```")
	if !ok || !closed {
		t.Fatal("docs/starts.md has no hook")
	}
	return hook
}

// A real push to a repository whose hook calls the service, as the docs say it.
func TestPushStartsBuilds(t *testing.T) {
	w := newWorld(t)
	work, bare := w.bare("hivebook", startRules)
	w.agent("barrow")
	key := w.ok("source", "key", "hivebook", "--quiet")
	w.settled("hivebook") // what it has by now is no news
	hook := "export OSKELD_SERVICE=" + w.address + "\n"
	for name, text := range map[string]string{"post-receive": strings.Replace(hookOfDocs(t), "\n", "\n"+hook, 1), "oskeld.key": strings.Fields(key)[0] + "\n"} {
		if err := os.WriteFile(filepath.Join(bare, "hooks", name), []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	push := func(ref string) {
		t.Helper()
		if out := work.git("push", "-q", "origin", ref); strings.Contains(out, "not told") {
			t.Error(out)
		}
	}
	work.commit("Count brood frames", map[string]string{"hive.txt": "12\n"})
	push("main")
	o := w.occurrences("hivebook", 1).List[0]
	if o.Outcome != "started" || o.Number != 1 || !strings.HasPrefix(o.Says, "1 commit pushed to branch main, ") {
		t.Errorf("%+v", o)
	}
	b := w.await(view.Build{Pipeline: "hivebook", Number: 1})
	if b.State != progress.Passed || b.StartedBy != "a push" || b.Why.Kind != view.ByPush || b.Branch != "main" || b.Version != "0.0.1-main.1" {
		t.Errorf("%+v", b.Build)
	}
	if out := w.ok("show", "hivebook/1"); !strings.Contains(out, "because 1 commit pushed to branch main") {
		t.Error(out)
	}
	work.commit("Tell how hives are named", map[string]string{"docs/hives.md": "by moor\n"})
	push("main")
	if o := w.occurrences("hivebook", 2).List[0]; o.Outcome != "nothing" || o.Cause != "it touches only docs/hives.md, which `unless` leaves out" {
		t.Errorf("%+v", o)
	}
	work.git("checkout", "-qb", "try")
	work.commit("Try something", map[string]string{"hive.txt": "13\n"})
	push("try")
	if o := w.occurrences("hivebook", 3).List[0]; o.Outcome != "nothing" || o.Cause != "no start rule is about branch try" {
		t.Errorf("%+v", o)
	}
	work.git("tag", "v1.4.0", "main")
	push("v1.4.0")
	if o := w.occurrences("hivebook", 4).List[0]; o.Outcome != "started" || o.Kind != view.ByTag {
		t.Errorf("%+v", o)
	}
	if b := w.await(view.Build{Pipeline: "hivebook", Number: 2}); b.Version != "1.4.0" || b.Tag != "v1.4.0" {
		t.Errorf("%+v", b.Build)
	}
	// A file with mistakes, and rules that rest.
	work.git("checkout", "-q", "main")
	work.commit("Break the file", map[string]string{"oskeld.toml": "pipeline = "})
	push("main")
	if o := w.occurrences("hivebook", 5).List[0]; o.Outcome != "refused" || !strings.Contains(o.Cause, "S001") {
		t.Errorf("%+v", o)
	}
	work.git("revert", "--no-edit", "HEAD")
	w.ok("pipeline", "set", "hivebook", "--starts", "off")
	push("main")
	if o := w.occurrences("hivebook", 6).List[0]; o.Outcome != "nothing" || o.Cause != "the pipeline's start rules rest" {
		t.Errorf("%+v", o)
	}
	out := w.ok("pipeline", "show", "hivebook")
	for _, want := range []string{"its start rules rest", "a push to main, release/**, unless it touches only docs/**", "build hivebook/2", "refused: ", "nothing: no start rule is about branch try"} {
		if !strings.Contains(out, want) {
			t.Errorf("pipeline show lacks %q:\n%s", want, out)
		}
	}
}

// Calls that are not signed, signed with another key, old, or sent twice.
func TestSignedCalls(t *testing.T) {
	w := newWorld(t)
	w.bare("hivebook", startRules)
	send := func(pipeline string, key string, at time.Time, body string) (int, string) {
		t.Helper()
		seconds := strconv.FormatInt(at.Unix(), 10)
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, w.address+"/start/"+pipeline, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set(signature.TimeHeader, seconds)
		if key != "" {
			r.Header.Set(signature.Header, signature.Of([]byte(key), seconds, []byte(body)))
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(text)
	}
	now := time.Now()
	if code, _ := send("hivebook", "any", now, ""); code != http.StatusUnauthorized {
		t.Errorf("a source without a key took a call: %d", code)
	}
	key := strings.Fields(w.ok("source", "key", "hivebook"))[0]
	for _, c := range []struct {
		pipeline, key, body, want string
		at                        time.Time
		code                      int
	}{
		{"hivebook", "", "", "not signed", now, http.StatusUnauthorized},
		{"hivebook", "another", "", "not signed", now, http.StatusUnauthorized},
		{"nectar", key, "", "not signed", now, http.StatusUnauthorized},
		{"hivebook", key, "", "away from the service's", now.Add(-time.Hour), http.StatusForbidden},
		{"hivebook", key, strings.Repeat("x", 70_000), "larger than 65536", now, http.StatusUnprocessableEntity},
		{"hivebook", key, "moved", `"source":"hivebook"`, now, http.StatusAccepted},
		{"hivebook", key, "moved", "taken before", now, http.StatusConflict},
	} {
		if code, text := send(c.pipeline, c.key, c.at, c.body); code != c.code || !strings.Contains(text, c.want) {
			t.Errorf("%+v: %d %s", c, code, text)
		}
	}
	old := key
	key = strings.Fields(w.ok("source", "key", "hivebook"))[0]
	if code, _ := send("hivebook", old, now, "again"); code != http.StatusUnauthorized {
		t.Errorf("the earlier key still opens: %d", code)
	}
	if code, _ := send("hivebook", key, now, "again"); code != http.StatusAccepted {
		t.Errorf("the new key does not open: %d", code)
	}
	if everything := w.ok("source", "show", "hivebook", "--json") + w.ok("records") + w.service.log.String(); strings.Contains(everything, key) {
		t.Error("the key can be read")
	}
}

// Without any call a push is found by looking, by one of two services, once; and what could not be
// answered while the source was away is answered later.
func TestPollingFindsPushes(t *testing.T) {
	w := newWorld(t)
	work, bare := w.bare("hivebook", startRules)
	w.agent("barrow")
	w.second()
	w.ok("source", "set", "hivebook", "--poll", "1s")
	for i := range 3 {
		work.commit("Work", map[string]string{"n.txt": strconv.Itoa(i)})
		work.git("push", "-q", "origin", "main")
		if o := w.occurrences("hivebook", i+1).List[0]; o.Outcome != "started" || o.Number != i+1 {
			t.Errorf("%+v", o)
		}
	}
	if err := os.Rename(bare, bare+".away"); err != nil {
		t.Fatal(err)
	}
	w.until("the source's trouble is told", func() bool {
		return strings.Contains(w.ok("source", "list", "--json"), "does not answer")
	})
	work.commit("More", map[string]string{"n.txt": "more"})
	work.git("push", "-q", bare+".away", "main")
	if err := os.Rename(bare+".away", bare); err != nil {
		t.Fatal(err)
	}
	w.occurrences("hivebook", 4)
}

// A pipeline that starts after another, and two that would start each other for ever.
func TestStartsAfterAnother(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	w.pipeline("nectar", "[[start]]\nafter = \"smoker\"\n[stage.a]\nscript = \"echo a\"\n")
	w.pipeline("hivebook", "[[start]]\nafter = \"nectar\"\nbranch = \"main\"\n[stage.a]\nscript = \"echo b\"\n")
	w.pipeline("smoker", "[[start]]\nafter = \"hivebook\"\n[stage.a]\nscript = \"echo c\"\n")
	first := w.await(w.start("nectar", ""))
	if first.State != progress.Passed {
		t.Fatal(first.Cause)
	}
	if o := w.occurrences("hivebook", 1).List[0]; o.Outcome != "started" || o.Says != "nectar/1 passed" {
		t.Errorf("%+v", o)
	}
	if b := w.await(view.Build{Pipeline: "hivebook", Number: 1}); b.StartedBy != "nectar/1" || b.Why.Kind != view.ByAfter || b.Branch != "main" {
		t.Errorf("%+v", b.Build)
	}
	w.await(view.Build{Pipeline: "smoker", Number: 1})
	if o := w.occurrences("nectar", 1).List[0]; o.Outcome != "nothing" || !strings.Contains(o.Cause, "go round") {
		t.Errorf("%+v", o)
	}
}

// A clock rule fires for its instant, once over two services, and once for all that was missed.
func TestClockStarts(t *testing.T) {
	w := newWorld(t)
	w.pipeline("smoker", "[[start]]\nclock = \"0 4 * * *\"\nzone = \"Europe/Oslo\"\n[stage.a]\nscript = \"echo a\"\n")
	w.second()
	c, err := pgx.Connect(t.Context(), w.database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	var due time.Time
	if err := c.QueryRow(t.Context(), `select due_at from clock_rule`).Scan(&due); err != nil {
		t.Fatal(err)
	}
	zone, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	if local := due.In(zone); local.Hour() != 4 || local.Minute() != 0 || time.Until(due) > 25*time.Hour {
		t.Errorf("due at %s", local)
	}
	// The service was down for three days, as it were.
	if _, err := c.Exec(t.Context(), `update clock_rule set due_at = due_at - interval '3 days', try_at = try_at - interval '3 days'`); err != nil {
		t.Fatal(err)
	}
	w.until("the next instant stands in the future", func() bool {
		var next time.Time
		return c.QueryRow(t.Context(), `select due_at from clock_rule`).Scan(&next) == nil && next.Equal(due)
	})
	// Nobody is there to take the build, so a start is refused, and said so.
	if o := w.occurrences("smoker", 1).List[0]; o.Kind != view.ByClock || o.Outcome != "refused" || !strings.Contains(o.Says, "04:00") || !strings.Contains(o.Cause, "no agent") {
		t.Errorf("%+v", o)
	}
	if out := w.ok("pipeline", "show", "smoker"); strings.Count(out, "next ") != 3 {
		t.Error(out)
	}
}
