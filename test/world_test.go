// Package test holds what crosses processes: the service, agents, the command line and the
// console, as their users meet them, on loopback.
package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/postgres"
)

var (
	program string           // the oskeld under test
	server  *postgres.Server // one PostgreSQL for all tests
	scratch string
)

func TestMain(m *testing.M) {
	code, err := runTests(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func runTests(m *testing.M) (int, error) {
	var err error
	if scratch, err = os.MkdirTemp("", "oskeld-test-"); err != nil {
		return 1, err
	}
	defer os.RemoveAll(scratch)
	if err := os.Chmod(scratch, 0o755); err != nil { // the user "postgres" must reach it
		return 1, err
	}
	program = filepath.Join(scratch, "oskeld")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/oskeld").CombinedOutput(); err != nil {
		return 1, fmt.Errorf("building oskeld: %w: %s", err, out)
	}
	if server, err = postgres.Start(context.Background(), postgres.Options{Dir: filepath.Join(scratch, "postgres"), Forgetful: true}); err != nil {
		return 1, err
	}
	defer server.Stop()
	return m.Run(), nil
}

const password = "heather-and-honey"

// world is a service of its own with a database of its own.
type world struct {
	t        *testing.T
	dir      string
	address  string
	database string
	lease    time.Duration
	service  *process
	owner    *client.Client
	token    string
	session  string
}

// process is a program of ours that a test runs.
type process struct {
	cmd   *exec.Cmd
	ended chan struct{}
	log   *lockedBuffer
}

type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func begin(t *testing.T, env []string, args ...string) *process {
	t.Helper()
	return beginProgram(t, program, env, args...)
}

func beginProgram(t *testing.T, program string, env []string, args ...string) *process {
	t.Helper()
	cmd := exec.Command(program, args...)
	p := &process{cmd: cmd, ended: make(chan struct{}), log: &lockedBuffer{}}
	cmd.Stdout, cmd.Stderr = p.log, p.log
	cmd.Env = append(os.Environ(), env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
			close(p.ended)
		}
	}()
	if err := <-started; err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.stop)
	return p
}

// stop ends a process as Ctrl-C does, and waits for it.
func (p *process) stop() { p.end(syscall.SIGTERM) }

// kill ends a process as a power cut does.
func (p *process) kill() { p.end(syscall.SIGKILL) }

func (p *process) end(signal syscall.Signal) {
	select {
	case <-p.ended:
		return
	default:
	}
	_ = p.cmd.Process.Signal(signal)
	select {
	case <-p.ended:
	case <-time.After(20 * time.Second):
		_ = p.cmd.Process.Kill()
		<-p.ended
	}
}

// newWorld starts a service with an owner "ida" and a project "heath" with a store "intake".
func newWorld(t *testing.T) *world {
	t.Helper()
	t.Parallel()
	return newWorldWith(t, 5*time.Second)
}

// newWorldWith is newWorld with leases of a length, alone with the machine.
func newWorldWith(t *testing.T, lease time.Duration) *world {
	t.Helper()
	w := &world{t: t, dir: t.TempDir(), lease: lease}
	name := "t" + strings.ToLower(rand.Text()[:12])
	c, err := pgx.Connect(t.Context(), server.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(t.Context(), "create database "+name); err != nil {
		t.Fatal(err)
	}
	w.database = server.URLOf(name)
	w.address = "http://" + freeAddress(t)
	w.session = filepath.Join(w.dir, "session.json")
	w.serve()
	w.signIn()
	w.ok("project", "add", "heath")
	w.ok("store", "add", "intake", "--project", "heath", "--rewrite", "never")
	return w
}

// serve starts the service, or starts it again, and waits until it is ready.
func (w *world) serve() {
	w.t.Helper()
	w.service = begin(w.t, []string{"OSKELD_DATABASE=" + w.database, "OSKELD_OWNER_PASSWORD=" + password},
		"serve", "--dir", filepath.Join(w.dir, "service"), "--listen", strings.TrimPrefix(w.address, "http://"), "--owner", "ida", "--lease", w.lease.String())
	w.ready(w.service, strings.TrimPrefix(w.address, "http://"))
}

// second starts another service on the same database, directory and key, and waits until it is ready.
func (w *world) second() (p *process, address string) {
	w.t.Helper()
	address = freeAddress(w.t)
	p = begin(w.t, []string{"OSKELD_DATABASE=" + w.database}, "serve", "--dir", filepath.Join(w.dir, "service"), "--listen", address, "--lease", w.lease.String())
	w.ready(p, address)
	return p, address
}

// freeAddress is an address of the loopback that nobody listens on.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func (w *world) ready(p *process, address string) {
	w.t.Helper()
	w.until("the service is ready", func() bool {
		select {
		case <-p.ended:
			w.t.Fatalf("the service ended:\n%s", p.log)
		default:
		}
		r, err := http.Get("http://" + address + "/health/ready")
		if err != nil {
			return false
		}
		r.Body.Close()
		return r.StatusCode == http.StatusOK
	})
}

// until polls for something that no event tells of, for a minute at most.
func (w *world) until(what string, f func() bool) {
	w.t.Helper()
	for end := time.Now().Add(time.Minute); !f(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatalf("not within a minute: %s\nservice:\n%s", what, w.service.log)
		}
	}
}

func (w *world) signIn() {
	w.t.Helper()
	w.token = w.signInAs("ida")
	w.owner = client.New(w.address, w.token)
	text, _ := json.Marshal(map[string]string{"service": w.address, "token": w.token})
	if err := os.WriteFile(w.session, text, 0o600); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) signInAs(name string) string {
	w.t.Helper()
	var out struct {
		Token string `json:"token"`
	}
	if err := client.New(w.address, "").Call(w.t.Context(), http.MethodPost, "/api/v1/session", map[string]string{"name": name, "password": password}, &out); err != nil {
		w.t.Fatal(err)
	}
	return out.Token
}

// agent starts an agent and waits until it has joined.
func (w *world) agent(name string, more ...string) *process {
	w.t.Helper()
	token := strings.TrimSpace(w.ok("agent", "add", "--quiet"))
	args := append([]string{"agent", "run", "--service", w.address, "--dir", filepath.Join(w.dir, name), "--name", name, "--beat", (w.lease / 6).String(), "--sandbox", "off"}, more...)
	p := begin(w.t, []string{"OSKELD_JOIN_TOKEN=" + token}, args...)
	w.until("agent "+name+" has joined", func() bool { return strings.Contains(p.log.String(), "agent ready") })
	return p
}

// run runs a command of the command line and gives what it printed and its exit code.
func (w *world) run(input string, args ...string) (out string, code int) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = w.dir
	cmd.Stdin = strings.NewReader(input)
	cmd.Env = append(os.Environ(), "OSKELD_SESSION="+w.session, "OSKELD_SERVICE=", "OSKELD_TOKEN=", "NO_COLOR=1")
	text, err := cmd.CombinedOutput()
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		return string(text), exit.ExitCode()
	}
	if err != nil {
		w.t.Fatalf("oskeld %v: %v\n%s", args, err, text)
	}
	return string(text), 0
}

func (w *world) ok(args ...string) string {
	w.t.Helper()
	out, code := w.run("", args...)
	if code != 0 {
		w.t.Fatalf("oskeld %s: exit %d\n%s\nservice:\n%s", strings.Join(args, " "), code, out, w.service.log)
	}
	return out
}

// refused runs a command that must end with a code and say something.
func (w *world) refused(code int, want string, args ...string) {
	w.t.Helper()
	out, got := w.run("", args...)
	if got != code || !strings.Contains(out, want) {
		w.t.Errorf("oskeld %s: exit %d, want %d with %q, got\n%s", strings.Join(args, " "), got, code, want, out)
	}
}

// repo is a source on disk.
type repo struct {
	w   *world
	dir string
}

func (w *world) repo(name string) repo {
	w.t.Helper()
	r := repo{w, filepath.Join(w.dir, "sources", name)}
	if err := os.MkdirAll(r.dir, 0o755); err != nil {
		w.t.Fatal(err)
	}
	r.git("init", "-q", "-b", "main")
	return r
}

func (r repo) git(args ...string) string {
	r.w.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = r.dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=Ida Roan", "GIT_AUTHOR_EMAIL=ida@heath.example",
		"GIT_COMMITTER_NAME=Ida Roan", "GIT_COMMITTER_EMAIL=ida@heath.example")
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.w.t.Fatalf("git %v: %v: %s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// commit writes files and commits them.
func (r repo) commit(subject string, files map[string]string) {
	r.w.t.Helper()
	for name, text := range files {
		path := filepath.Join(r.dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			r.w.t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			r.w.t.Fatal(err)
		}
	}
	r.git("add", "-A")
	r.git("commit", "-q", "--allow-empty", "-m", subject)
}

// pipeline makes a source with one commit and binds its pipeline.
func (w *world) pipeline(name, stages string) repo {
	w.t.Helper()
	r := w.repo(name)
	r.commit("Begin", map[string]string{"oskeld.toml": fmt.Sprintf("pipeline = %q\n%s", name, stages)})
	w.ok("source", "add", name, r.dir, "--project", "heath", "--trust", "*")
	w.ok("pipeline", "add", name, "--source", name)
	return r
}

// start starts a build and gives its number.
func (w *world) start(pipeline, ref string) view.Build {
	w.t.Helper()
	var b view.Build
	if err := w.owner.Call(w.t.Context(), http.MethodPost, "/api/v1/pipelines/"+pipeline+"/builds", map[string]string{"ref": ref}, &b); err != nil {
		w.t.Fatalf("start %s: %v\nservice:\n%s", pipeline, err, w.service.log)
	}
	return b
}

func (w *world) build(b view.Build) view.BuildDetail {
	w.t.Helper()
	var d view.BuildDetail
	if err := w.owner.Call(w.t.Context(), http.MethodGet, fmt.Sprintf("/api/v1/builds/%s/%d", b.Pipeline, b.Number), nil, &d); err != nil {
		w.t.Fatal(err)
	}
	return d
}

// await waits until a build has ended.
func (w *world) await(b view.Build) (d view.BuildDetail) {
	w.t.Helper()
	w.until(fmt.Sprintf("%s/%d has ended", b.Pipeline, b.Number), func() bool {
		err := w.owner.Call(w.t.Context(), http.MethodGet, fmt.Sprintf("/api/v1/builds/%s/%d", b.Pipeline, b.Number), nil, &d)
		return err == nil && d.State.Over()
	})
	return d
}

// lines reads the log of a stage run, and fails when a number is missing or stands twice.
func (w *world) lines(b view.Build, run int) []string {
	w.t.Helper()
	var out []string
	for {
		var part view.LogPart
		path := fmt.Sprintf("/api/v1/builds/%s/%d/runs/%d/lines?first=%d&most=20000", b.Pipeline, b.Number, run, len(out)+1)
		if err := w.owner.Call(w.t.Context(), http.MethodGet, path, nil, &part); err != nil {
			w.t.Fatal(err)
		}
		for _, l := range part.Lines {
			if l.Number != int64(len(out)+1) {
				w.t.Fatalf("line %d stands where line %d must: a hole or a doubled line", l.Number, len(out)+1)
			}
			out = append(out, l.Text)
		}
		if len(part.Lines) == 0 {
			return out
		}
	}
}

// runs waits until a stage run has printed a text.
func (w *world) printed(b view.Build, run int, text string) {
	w.t.Helper()
	w.until("the log says "+text, func() bool {
		for _, l := range w.lines(b, run) {
			if strings.Contains(l, text) {
				return true
			}
		}
		return false
	})
}

// get reads a shape of the API.
func (w *world) get(path string, into any) {
	w.t.Helper()
	if err := w.owner.Call(w.t.Context(), http.MethodGet, path, nil, into); err != nil {
		w.t.Fatal(err)
	}
}

// input runs a command with text on its standard input; it must come out well.
func (w *world) input(text string, args ...string) {
	w.t.Helper()
	if out, code := w.run(text, args...); code != 0 {
		w.t.Fatalf("oskeld %s: exit %d\n%s", strings.Join(args, " "), code, out)
	}
}

// decode reads what a command printed with --json.
func (w *world) decode(text string, into any) {
	w.t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		w.t.Fatalf("%v in %s", err, text)
	}
}

// fetch reads an address of the service as a text.
func (w *world) fetch(path string) string {
	w.t.Helper()
	request, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.address+path, nil)
	if err != nil {
		w.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+w.token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		w.t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK {
		w.t.Fatalf("%s: %d %s %v", path, response.StatusCode, text, err)
	}
	return string(text)
}
