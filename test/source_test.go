package test

import (
	"fmt"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

// gitServer serves repositories below a directory over http, to one user with one password.
func gitServer(t *testing.T, dir, user, password string) string {
	t.Helper()
	out, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		t.Fatal(err)
	}
	backend := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(out)), "git-http-backend"),
		Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1", "GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*"}}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if u, p, ok := r.BasicAuth(); !ok || u != user || p != password {
			w.Header().Set("WWW-Authenticate", `Basic realm="git"`)
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		backend.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// A source behind a password: refused without, bound with, read by agents, and the password
// stands nowhere a person or a script could see it.
func TestSourceWithPassword(t *testing.T) {
	w := newWorld(t)
	r := w.repo("closed")
	r.commit("Begin", map[string]string{"oskeld.toml": "pipeline = \"closed\"\n[stage.a]\nscript = \"git remote -v; env; cat .git/config; cat file\"\n", "file": "inside\n"})
	address := gitServer(t, filepath.Join(w.dir, "sources"), "reader", "pass-w0rd-of-git") + "/closed/.git"
	w.refused(5, "give its credential: oskeld source set NAME --password-stdin", "source", "add", "closed", address, "--project", "heath")
	if out, code := w.run("wrong", "source", "add", "closed", address, "--project", "heath", "--user", "reader", "--password-stdin"); code != 5 || strings.Contains(out, "wrong\n") {
		t.Errorf("a wrong password: exit %d\n%s", code, out)
	}
	w.refused(2, "the address carries a password", "source", "add", "closed", strings.Replace(address, "http://", "http://reader:pass-w0rd-of-git@", 1), "--project", "heath")
	out, code := w.run("pass-w0rd-of-git\n", "source", "add", "closed", address, "--project", "heath", "--user", "reader", "--password-stdin")
	if code != 0 || !strings.Contains(out, "source closed answers") || !strings.Contains(out, "1 branches: main (default)") || !strings.Contains(out, "credential: password") {
		t.Fatalf("exit %d\n%s", code, out)
	}
	w.ok("pipeline", "add", "closed", "--source", "closed")
	w.agent("barrow")
	d := w.await(w.start("closed", ""))
	log := strings.Join(w.lines(d.Build, 0), "\n")
	if d.State != progress.Passed || !strings.Contains(log, "inside") {
		t.Errorf("%s %s\n%s", d.State, d.Cause, log)
	}
	everything := log + w.ok("source", "show", "closed", "--json") + w.ok("records") + w.ok("show", "closed/1", "--json") + w.service.log.String()
	if strings.Contains(everything, "pass-w0rd") {
		t.Error("the password can be read")
	}
	if found, _ := exec.Command("grep", "-rl", "pass-w0rd-of-git", w.dir).Output(); len(found) > 0 {
		t.Errorf("the password lies in %s", found)
	}
}

// Two services on one database, one directory and one key: either may die, and the build goes on.
func TestTwoServices(t *testing.T) {
	w := newWorld(t)
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("[stage.a]\nscript = \"echo begun; %s; echo end\"\n", wait))
	second, address := w.second()
	// The agent calls the second; people call the first.
	token := strings.TrimSpace(w.ok("agent", "add", "--quiet"))
	a := begin(t, []string{"OSKELD_JOIN_TOKEN=" + token}, "agent", "run", "--sandbox", "off", "--service", "http://"+address, "--dir", filepath.Join(w.dir, "barrow"), "--name", "barrow", "--beat", "800ms")
	w.until("the agent has joined", func() bool { return strings.Contains(a.log.String(), "agent ready") })
	b := w.start("hivebook", "")
	w.printed(b, 0, "begun")
	w.service.kill()
	w.serve() // the first comes back; the second never went
	open()
	if d := w.await(b); d.State != progress.Passed {
		t.Errorf("%s %s", d.State, d.Cause)
	}
	if out := w.ok("records", "hivebook/1"); strings.Contains(out, "agent lost") || strings.Count(out, "build passed") != 1 {
		t.Error(out)
	}
	second.stop()
	// A third with another key must not start.
	key := filepath.Join(w.dir, "other.key")
	if err := os.WriteFile(key, []byte(strings.Repeat("ab", 32)+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	third := begin(t, []string{"OSKELD_DATABASE=" + w.database}, "serve", "--dir", filepath.Join(w.dir, "third"), "--listen", address, "--key", key)
	<-third.ended
	if !strings.Contains(third.log.String(), "the key does not fit this database") {
		t.Error(third.log)
	}
}

// What stands in the way of a service's start is told in a sentence.
func TestServeRefuses(t *testing.T) {
	w := newWorld(t)
	taken := begin(t, []string{"OSKELD_DATABASE=" + w.database}, "serve", "--dir", filepath.Join(w.dir, "x"), "--listen", strings.TrimPrefix(w.address, "http://"))
	<-taken.ended
	if !strings.Contains(taken.log.String(), "is taken by another program") || taken.cmd.ProcessState.ExitCode() != 4 {
		t.Error(taken.log)
	}
	away := begin(t, []string{"OSKELD_DATABASE=postgres://oskeld@127.0.0.1:1/none?connect_timeout=2"}, "serve", "--dir", filepath.Join(w.dir, "x"), "--listen", "127.0.0.1:0")
	<-away.ended
	if !strings.Contains(away.log.String(), "the database does not answer") || strings.Contains(away.log.String(), "goroutine") {
		t.Error(away.log)
	}
	wrong := begin(t, []string{"OSKELD_DATABASE=nonsense://x"}, "serve", "--dir", filepath.Join(w.dir, "x"), "--listen", "127.0.0.1:0")
	<-wrong.ended
	if !strings.Contains(wrong.log.String(), "the address of the database cannot be read") {
		t.Error(wrong.log)
	}
	notDemo := begin(t, nil, "demo", "--dir", w.dir, "--port", "1")
	<-notDemo.ended
	if !strings.Contains(notDemo.log.String(), "is not a demo's directory") {
		t.Error(notDemo.log)
	}
	unjoined := begin(t, nil, "agent", "run", "--sandbox", "off", "--service", w.address, "--dir", filepath.Join(w.dir, "unjoined"))
	<-unjoined.ended
	if !strings.Contains(unjoined.log.String(), "has not joined") {
		t.Error(unjoined.log)
	}
	spent := strings.TrimSpace(w.ok("agent", "add", "--quiet"))
	for i, want := range []string{"agent ready", "was used, or has ended"} {
		p := begin(t, []string{"OSKELD_JOIN_TOKEN=" + spent}, "agent", "run", "--sandbox", "off", "--service", w.address, "--dir", filepath.Join(w.dir, fmt.Sprint("spent", i)), "--name", fmt.Sprint("spent", i))
		w.until(want, func() bool { return strings.Contains(p.log.String(), want) })
	}
}
