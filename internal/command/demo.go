package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"github.com/spf13/cobra"

	"oskeld.dev/oskeld/demo"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
)

// demoFormat is the shape of the demo's directory; another one is made anew.
const demoFormat = 6

// demoMark is the file by which a directory is known as a demo's.
type demoMark struct {
	Format   int  `json:"format"`
	Complete bool `json:"complete"`
}

func (c *cli) demo() *cobra.Command {
	var d demoRun
	cmd := &cobra.Command{Use: "demo", Short: "Start everything with the data of a made-up cooperative, until Ctrl-C", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&d.once, "once", false, "print a summary of what ran and end; the exit code tells whether all came out as it must")
	cmd.Flags().IntVar(&d.port, "port", 7080, "port of the console")
	cmd.Flags().StringVar(&d.dir, "dir", filepath.Join(os.TempDir(), "oskeld-demo-"+strconv.Itoa(os.Getuid())), "directory of the demo's data")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		d.cli = c
		return d.run(cmd.Context())
	}
	return cmd
}

// demoRun is one run of the demo: a service, two agents, and the story.
type demoRun struct {
	*cli
	once    bool
	port    int
	dir     string
	address string
	program string
	running []*child
}

// child is a process of ours. It ends with us, whatever happens to us.
type child struct {
	name  string
	cmd   *exec.Cmd
	ended chan struct{}
}

func (d *demoRun) run(ctx context.Context) (err error) {
	began := time.Now()
	if d.program, err = os.Executable(); err != nil {
		return err
	}
	unlock, fresh, err := d.prepare()
	if err != nil {
		return err
	}
	defer unlock()
	d.address = fmt.Sprintf("http://127.0.0.1:%d", d.port)
	defer d.stopAll()
	if err := d.startAll(ctx, fresh); err != nil {
		return err
	}
	owner, err := d.signIn(ctx, "ida")
	if err != nil {
		return err
	}
	if fresh {
		if err := d.play(ctx, owner); err != nil {
			return err
		}
	}
	if err := saveSession(session{d.address, owner}); err != nil {
		return err
	}
	if d.once {
		return d.sum(ctx, client.New(d.address, owner))
	}
	d.greet(time.Since(began))
	select {
	case <-ctx.Done():
		fmt.Fprintln(d.out, "\nstopping ...")
		return nil
	case <-d.running[0].ended:
		return fault.Unavailable("the service has ended").Hint("its log is %s", filepath.Join(d.dir, "serve.log"))
	}
}

// prepare makes the directory ready: one that is not a demo's is left alone, a half made one is
// made anew.
func (d *demoRun) prepare() (unlock func(), fresh bool, err error) {
	if d.dir, err = filepath.Abs(d.dir); err != nil {
		return nil, false, err
	}
	mark, err := readMark(d.dir)
	if err != nil {
		return nil, false, err
	}
	if err := os.MkdirAll(d.dir, 0o755); err != nil {
		return nil, false, fault.Unavailable("the demo's directory cannot be made: %v", err).Hint("name another: make demo DIR=…")
	}
	lock := flock.New(filepath.Join(d.dir, "lock"), flock.SetPermissions(0o600))
	got, err := lock.TryLock()
	if err != nil {
		return nil, false, err
	}
	if !got {
		return nil, false, fault.Conflict("a demo runs already from %s", d.dir).Hint("end it with Ctrl-C there, or name another directory and port: make demo DIR=… PORT=…")
	}
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", d.port))
	if err != nil {
		lock.Close()
		return nil, false, fault.Conflict("port %d of 127.0.0.1 is taken by another program", d.port).Hint("name another: make demo PORT=%d", d.port+10)
	}
	l.Close()
	if fresh = !mark.Complete || mark.Format != demoFormat; fresh {
		if mark.Format != 0 {
			fmt.Fprintf(d.out, "the demo in %s is half made or of an older make: it is made anew\n", d.dir)
		}
		for _, sub := range []string{"service", "agents", "sources", "go-build", "demo.json"} {
			if err := os.RemoveAll(filepath.Join(d.dir, sub)); err != nil {
				lock.Close()
				return nil, false, err
			}
		}
		if err := writeMark(d.dir, demoMark{Format: demoFormat}); err != nil {
			lock.Close()
			return nil, false, err
		}
	}
	return func() { lock.Close() }, fresh, nil
}

func readMark(dir string) (m demoMark, err error) {
	text, err := os.ReadFile(filepath.Join(dir, "demo.json"))
	if errors.Is(err, fs.ErrNotExist) {
		entries, err := os.ReadDir(dir)
		if err == nil && len(entries) > 0 && !(len(entries) == 1 && entries[0].Name() == "lock") {
			return m, fault.Conflict("%s is there and is not a demo's directory", dir).Hint("move it away, or name another: make demo DIR=…")
		}
		return m, nil
	}
	if err != nil {
		return m, err
	}
	if json.Unmarshal(text, &m) != nil {
		m.Format = -1 // ours, and broken
	}
	return m, nil
}

func writeMark(dir string, m demoMark) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "demo.json"), text, 0o644)
}

// spawn starts the program again with other words, its output in a log file.
func (d *demoRun) spawn(name string, env []string, args ...string) error {
	log, err := os.OpenFile(filepath.Join(d.dir, name+".log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(d.program, args...)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.Env = append(os.Environ(), env...)
	cmd.SysProcAttr = endsWithUs()
	c := &child{name: name, cmd: cmd, ended: make(chan struct{})}
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // Pdeathsig follows the thread that starts the process
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
			close(c.ended)
		}
	}()
	if err := <-started; err != nil {
		return err
	}
	d.running = append(d.running, c)
	return nil
}

// stopAll ends the agents, then the service, and waits for each.
func (d *demoRun) stopAll() {
	for i := len(d.running) - 1; i >= 0; i-- {
		c := d.running[i]
		_ = c.cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-c.ended:
		case <-time.After(20 * time.Second):
			_ = c.cmd.Process.Kill()
			<-c.ended
		}
	}
}

func (d *demoRun) startAll(ctx context.Context, fresh bool) error {
	fmt.Fprintf(d.out, "starting the service and two agents in %s ...\n", d.dir)
	env := []string{"OSKELD_OWNER_PASSWORD=" + demo.Password, "OSKELD_DATABASE="}
	if err := d.spawn("serve", env, "serve", "--dir", filepath.Join(d.dir, "service"), "--owner", "ida", "--listen", fmt.Sprintf("127.0.0.1:%d", d.port)); err != nil {
		return err
	}
	if err := d.awaitReady(ctx); err != nil {
		return err
	}
	for _, name := range []string{"barrow", "heron"} {
		var token []string
		if fresh {
			owner, err := d.signIn(ctx, "ida")
			if err != nil {
				return err
			}
			var out map[string]string
			if err := client.New(d.address, owner).Call(ctx, http.MethodPost, "/api/v1/agents", nil, &out); err != nil {
				return err
			}
			token = []string{"OSKELD_JOIN_TOKEN=" + out["token"]}
		}
		if err := d.startAgent(name, token); err != nil {
			return err
		}
	}
	return nil
}

// startAgent starts an agent, whose environment holds a join token the first time.
func (d *demoRun) startAgent(name string, env []string) error {
	cache := filepath.Join(d.dir, "go-build")
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return err
	}
	return d.spawn(name, env, "agent", "run", "--service", d.address, "--dir", filepath.Join(d.dir, "agents", name), "--name", name, "--places", "2",
		"--env", "GOCACHE="+cache, "--sandbox-write", cache)
}

// cut ends an agent as a power cut does, and starts it anew.
func (d *demoRun) cut(name string) error {
	i := slices.IndexFunc(d.running, func(c *child) bool { return c.name == name })
	if i < 0 {
		return fault.Missing("no agent %q runs here", name)
	}
	c := d.running[i]
	if err := c.cmd.Process.Kill(); err != nil {
		return err
	}
	<-c.ended
	d.running = slices.Delete(d.running, i, i+1)
	return d.startAgent(name, nil)
}

func (d *demoRun) awaitReady(ctx context.Context) error {
	for {
		response, err := http.Get(d.address + "/health/ready")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-d.running[0].ended:
			text, _ := os.ReadFile(filepath.Join(d.dir, "serve.log"))
			lines := strings.Split(strings.TrimSpace(string(text)), "\n")
			return fault.Unavailable("the service ended at once: %s", strings.Join(lines[max(0, len(lines)-2):], " ")).
				Hint("its log is %s", filepath.Join(d.dir, "serve.log"))
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (d *demoRun) signIn(ctx context.Context, name string) (string, error) {
	var out struct {
		Token string `json:"token"`
	}
	err := client.New(d.address, "").Call(ctx, http.MethodPost, "/api/v1/session", map[string]string{"name": name, "password": demo.Password}, &out)
	return out.Token, err
}

// awaitAgents waits until both agents have joined: a start before would be refused.
func (d *demoRun) awaitAgents(ctx context.Context, owner *client.Client) error {
	for {
		var l client.List[struct {
			Here bool `json:"here"`
		}]
		if err := owner.Call(ctx, http.MethodGet, "/api/v1/agents", nil, &l); err != nil {
			return err
		}
		if len(l.List) == 2 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-d.running[1].ended:
			return fault.Unavailable("an agent ended at once").Hint("its log is %s", filepath.Join(d.dir, "barrow.log"))
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (d *demoRun) play(ctx context.Context, owner string) error {
	s := &demo.Story{As: map[string]*client.Client{"ida": client.New(d.address, owner)}, Dir: filepath.Join(d.dir, "sources"),
		Say: func(format string, args ...any) { fmt.Fprintf(d.out, format+"\n", args...) }, Cut: d.cut}
	fmt.Fprintln(d.out, "making the sources and running their pipelines, for real:")
	if err := s.SetUp(ctx); err != nil {
		return err
	}
	for _, p := range demo.People {
		token, err := d.signIn(ctx, p.Name)
		if err != nil {
			return err
		}
		s.As[p.Name] = client.New(d.address, token)
	}
	if err := d.awaitAgents(ctx, s.As["ida"]); err != nil {
		return err
	}
	if err := s.Play(ctx); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fault.Conflict("the demo did not come out as it must: %v", err).Hint("its logs are in %s; the next make demo makes it anew", d.dir)
	}
	return writeMark(d.dir, demoMark{demoFormat, true})
}

func (d *demoRun) sum(ctx context.Context, owner *client.Client) error {
	s, err := demo.Sum(ctx, owner)
	if len(s.Builds) > 0 {
		t := d.table("build", "state", "version", "from", "by")
		for _, b := range s.Builds {
			t.row(buildRef(b), b.State, b.Version, firstOf(b.Tag, b.Branch), b.StartedBy)
		}
		for _, r := range s.Refused {
			t.row(strings.TrimPrefix(r.Thing, "pipeline "), cell{"  refused", red}, "", r.Details["ref"], r.Who)
		}
		t.print()
		fmt.Fprintln(d.out)
		t = d.table("promotion", "to", "outcome")
		for _, p := range s.Promotions {
			t.row(p.From, p.To, firstOf(p.Cause, "accepted"))
		}
		t.print()
		fmt.Fprintln(d.out)
	}
	if err != nil {
		return fault.Conflict("the demo did not come out as it must: %v", err)
	}
	fmt.Fprintf(d.out, "%d builds, %d refused starts, %d artifacts, %d promotions: all as the scenario says\n", len(s.Builds), len(s.Refused), len(s.Artifacts), len(s.Promotions))
	return nil
}

func (d *demoRun) greet(took time.Duration) {
	program := d.program
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, program); err == nil && !strings.HasPrefix(rel, "..") {
			program = rel
		}
	}
	fmt.Fprintf(d.out, `
Ready after %.0f s.

  console   %s
  sign in   ida, per or nell; the password of each is %s

You are signed in on the command line as ida. Try next:
  %s start hivebook --ref main --ask profile=debug --follow
  %s promote intake/hivebook@1.3.3-main.4 --to proving --dry-run
  %s trace shelf/hivebook:stable#hivebook-1.4.0-linux-amd64.zip

Ctrl-C ends everything; the data stay in %s.
`, took.Seconds(), d.address, demo.Password, program, program, program, d.dir)
}
