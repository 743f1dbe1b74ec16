// Command bench measures Oskeld's speed against floors taken in the same run, prints a table and
// writes bench/results.json. Its services are its own, on loopback, and end with it.
//
//	go run ./bench [-size 1073741824] [-starts 20]
package main

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
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

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/view"
)

// result is one row: what was measured, its floor in the same run, and what it must reach.
type result struct {
	What    string  `json:"what"`
	Floor   string  `json:"floor"`
	Got     string  `json:"got"`
	Ratio   float64 `json:"ratio"`
	Reach   string  `json:"reach"`
	Reached bool    `json:"reached"`
}

func main() {
	size := flag.Int64("size", 1<<30, "bytes of the large file")
	starts := flag.Int("starts", 20, "how many builds to start")
	waiting := flag.Int("waiting", 10_000, "how many stage runs wait while the hand-out is measured")
	only := flag.String("only", "", "one measurement with a service alone: first-line, handout, logs, long-log, unchanged, carry, crowd or large-file")
	desk := flag.Bool("desk", false, "only what needs no service")
	flag.Parse()
	if err := run(*size, *starts, *waiting, *only, *desk); err != nil {
		log.Fatal(err)
	}
}

func run(size int64, starts, waiting int, only string, desk bool) error {
	var results []result
	if only == "" {
		var err error
		if results, err = onTheDesk(); err != nil {
			return err
		}
	}
	if !desk {
		more, err := withService(size, starts, waiting, only)
		if err != nil {
			return err
		}
		results = append(results, more...)
	}
	fmt.Printf("\n%d processors, %s\n\n| what | floor | got | ratio | reach | |\n|---|---|---|---|---|---|\n", runtime.NumCPU(), runtime.Version())
	for _, r := range results {
		fmt.Printf("| %s | %s | %s | %.2f | %s | %s |\n", r.What, r.Floor, r.Got, r.Ratio, r.Reach, map[bool]string{true: "reached", false: "**not reached**"}[r.Reached])
	}
	text, err := json.MarshalIndent(results, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile("bench/results.json", append(text, '\n'), 0o644)
}

// withService measures a service and an agent of its own.
func withService(size int64, starts, waiting int, only string) (results []result, err error) {
	dir, err := os.MkdirTemp("", "oskeld-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the user "postgres" must reach it
		return nil, err
	}
	b, err := begin(dir)
	if err != nil {
		return nil, err
	}
	defer b.end()
	for _, m := range []struct {
		name    string
		measure func() ([]result, error)
	}{
		{"first-line", func() ([]result, error) { return b.firstLine(starts) }},
		{"handout", func() ([]result, error) { return b.handOut(waiting) }},
		{"logs", b.logs},
		{"long-log", b.longLog},
		{"unchanged", b.nothingNew},
		{"carry", b.carrying},
		{"crowd", b.crowd},
		{"large-file", func() ([]result, error) { return b.largeFile(size) }},
	} {
		if only != "" && only != m.name {
			continue
		}
		rows, err := m.measure()
		if err != nil {
			return nil, err
		}
		results = append(results, rows...)
	}
	return results, nil
}

// bench is a service with an agent.
type bench struct {
	dir     string
	address string
	service *exec.Cmd
	agent   *exec.Cmd
	client  *client.Client
	token   string // of its owner's session
}

func start(dir, name string, env []string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command("bin/oskeld", args...)
	cmd.Env = append(os.Environ(), env...)
	file, err := os.Create(filepath.Join(dir, name+".log"))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	cmd.Stdout, cmd.Stderr = file, file
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return cmd, cmd.Start()
}

func begin(dir string) (*bench, error) {
	const password = "heather-and-honey"
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &bench{dir: dir, address: "http://" + l.Addr().String()}
	l.Close()
	if b.service, err = start(dir, "serve", []string{"OSKELD_DATABASE=", "OSKELD_OWNER_PASSWORD=" + password}, "serve", "--dir", filepath.Join(dir, "service"),
		"--listen", strings.TrimPrefix(b.address, "http://"), "--owner", "ida"); err != nil {
		return nil, err
	}
	for until := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		if r, err := http.Get(b.address + "/health/ready"); err == nil {
			r.Body.Close()
			if r.StatusCode == http.StatusOK {
				break
			}
		}
		if time.Now().After(until) {
			b.end()
			return nil, errors.New("the service did not become ready")
		}
	}
	ctx := context.Background()
	var session, join struct {
		Token string `json:"token"`
	}
	if err := client.New(b.address, "").Call(ctx, http.MethodPost, "/api/v1/session", map[string]string{"name": "ida", "password": password}, &session); err != nil {
		return nil, err
	}
	b.client, b.token = client.New(b.address, session.Token), session.Token
	for path, body := range map[string]map[string]string{"/api/v1/projects": {"name": "heath"}} {
		if err := b.client.Call(ctx, http.MethodPost, path, body, nil); err != nil {
			return nil, err
		}
	}
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/stores", map[string]string{"project": "heath", "file": "store = \"intake\"\n"}, nil); err != nil {
		return nil, err
	}
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/agents", nil, &join); err != nil {
		return nil, err
	}
	b.agent, err = start(dir, "agent", []string{"OSKELD_JOIN_TOKEN=" + join.Token}, "agent", "run", "--service", b.address, "--dir", filepath.Join(dir, "agent"), "--name", "barrow", "--sandbox", "off")
	time.Sleep(2 * time.Second) // it looks for its tools
	return b, err
}

func (b *bench) end() {
	for _, cmd := range []*exec.Cmd{b.agent, b.service} {
		if cmd != nil && cmd.Process != nil {
			_ = cmd.Process.Signal(syscall.SIGTERM)
			_ = cmd.Wait()
		}
	}
}

// memory is what a process holds of its own, in bytes, now and at its peak: the file pages that
// the kernel caches for it do not count.
func memory(pid int) (now, peak int64) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, 0
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		n, _ := strconv.ParseInt(f[1], 10, 64)
		switch f[0] {
		case "VmRSS:":
			now = n << 10
		case "VmHWM:":
			peak = n << 10
		}
	}
	return now, peak
}

func quantile(list []time.Duration, q float64) time.Duration {
	slices.Sort(list)
	return list[min(len(list)-1, int(q*float64(len(list))))]
}

func ms(d time.Duration) string { return fmt.Sprintf("%d ms", d.Milliseconds()) }

// firstLine starts builds of a source of 10,000 files, its copy warm, and waits for the first line
// at a follower. The floor lays the same commit out with git and runs the same script.
func (b *bench) firstLine(n int) ([]result, error) {
	repo := filepath.Join(b.dir, "wide")
	if err := writeFiles(repo); err != nil {
		return nil, err
	}
	ctx := context.Background()
	if err := b.pipeline(ctx, "wide", "[stage.a]\nfacts = { os = \"linux\" }\nscript = \"echo first\"\n"); err != nil {
		return nil, err
	}
	var floors, got []time.Duration
	for i := range n + 1 {
		began := time.Now()
		tree := filepath.Join(b.dir, fmt.Sprintf("tree-%d", i))
		if out, err := exec.Command("sh", "-c", fmt.Sprintf("git -C %s worktree add -q --detach %s && cd %s && sh -eu -c 'echo first'", repo, tree, tree)).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%w: %s", err, out)
		}
		floor := time.Since(began)
		if err := exec.Command("git", "-C", repo, "worktree", "remove", "--force", tree).Run(); err != nil {
			return nil, err
		}
		began = time.Now()
		if err := b.oneStart(ctx); err != nil {
			return nil, err
		}
		if i > 0 { // the first warms the copies
			floors, got = append(floors, floor), append(got, time.Since(began))
		}
		time.Sleep(300 * time.Millisecond) // the agent removes its workspace
	}
	row := func(what string, q float64, over time.Duration) result {
		f, g := quantile(floors, q), quantile(got, q)
		return result{what, ms(f), ms(g), float64(g) / float64(f), "floor + " + ms(over), g <= f+over}
	}
	return []result{row("start to first line, 10,000 files, p50", 0.5, 150*time.Millisecond), row("the same, p99", 0.99, 500*time.Millisecond)}, nil
}

func (b *bench) oneStart(ctx context.Context) error {
	var build view.Build
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines/wide/builds", map[string]string{}, &build); err != nil {
		return err
	}
	return b.client.Events(ctx, fmt.Sprintf("/api/v1/builds/wide/%d/follow", build.Number), "", func(e client.Event) (bool, error) {
		return e.Name != "lines" && e.Name != "end", nil
	})
}

// largeFile delivers and fetches one new file. The floor of delivering is SHA-256, then a synced
// write, in sequence; that of fetching is the same bytes from a plain server by sendfile.
func (b *bench) largeFile(size int64) ([]result, error) {
	ctx := context.Background()
	path := filepath.Join(b.dir, "large")
	if err := exec.Command("sh", "-c", fmt.Sprintf("head -c %d /dev/urandom > %s; sync", size, path)).Run(); err != nil {
		return nil, err
	}
	if _, err := hashFile(path); err != nil { // into the page cache, for both
		return nil, err
	}
	// Forget the peak of signing in: argon2id takes 64 MiB for a moment.
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", b.service.Process.Pid), []byte("5"), 0)
	idle, _ := memory(b.service.Process.Pid)
	began := time.Now()
	if _, err := hashFile(path); err != nil {
		return nil, err
	}
	if err := copySynced(path, filepath.Join(b.dir, "floor")); err != nil {
		return nil, err
	}
	floor := time.Since(began)
	os.Remove(filepath.Join(b.dir, "floor"))
	began = time.Now()
	f, err := b.client.Send(ctx, path, func(int64) {})
	if err != nil {
		return nil, err
	}
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/deliveries", map[string]any{"store": "intake", "name": "large", "version": "1", "files": []artifact.File{f}}, nil); err != nil {
		return nil, err
	}
	got := time.Since(began)
	_, peak := memory(b.service.Process.Pid)
	ratio := float64(floor) / float64(got)
	more := peak - idle
	gib := float64(size) / (1 << 30)
	rate := func(d time.Duration) string { return fmt.Sprintf("%.2f GiB/s", gib/d.Seconds()) }
	results := []result{
		{fmt.Sprintf("delivering a new file of %.2f GiB", gib), rate(floor), rate(got), ratio, ">= 0.7 of the rate", ratio >= 0.7},
		{"the service's memory meanwhile, above idle", fmt.Sprintf("%d MB idle", idle>>20), fmt.Sprintf("+%d MB", more>>20), float64(peak) / float64(idle), "<= 64 MB", more <= 64<<20},
	}
	fetch, err := b.fetching(ctx, path, size)
	return append(results, fetch), err
}

func (b *bench) fetching(ctx context.Context, path string, size int64) (result, error) {
	plain, floorName, stop, err := plainServer(path)
	if err != nil {
		return result{}, err
	}
	defer stop()
	var floors, gots []time.Duration
	for range 5 {
		began := time.Now()
		r, err := http.Get(plain)
		if err != nil {
			return result{}, err
		}
		if err := drain(r.Body, size); err != nil {
			return result{}, err
		}
		floors = append(floors, time.Since(began))
		began = time.Now()
		body, _, _, err := b.client.Open(ctx, "/files/intake/large/1/large", 0)
		if err != nil {
			return result{}, err
		}
		if err := drain(body, size); err != nil {
			return result{}, err
		}
		gots = append(gots, time.Since(began))
	}
	floor, got := quantile(floors, 0.5), quantile(gots, 0.5)
	ratio := float64(floor) / float64(got)
	gib := float64(size) / (1 << 30)
	return result{fmt.Sprintf("fetching it (floor: %s)", floorName), fmt.Sprintf("%.2f GiB/s", gib/floor.Seconds()), fmt.Sprintf("%.2f GiB/s", gib/got.Seconds()), ratio, ">= 0.9 of the rate", ratio >= 0.9}, nil
}

func drain(body io.ReadCloser, size int64) error {
	defer body.Close()
	n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, body, make([]byte, 256<<10))
	if err == nil && n != size {
		err = fmt.Errorf("%d bytes came, want %d", n, size)
	}
	return err
}

// plainServer is nginx with sendfile where it is installed, else Go's own file server, which
// sends by sendfile as well.
func plainServer(path string) (url, name string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", "", nil, err
	}
	address := l.Addr().String()
	dir := filepath.Dir(path)
	if nginx, lookErr := exec.LookPath("nginx"); lookErr == nil {
		l.Close()
		config := filepath.Join(dir, "nginx.conf")
		text := fmt.Sprintf("daemon off; pid %s/nginx.pid; error_log %s/nginx.log; user root; events {} http { access_log off; sendfile on; server { listen %s; root %s; } }", dir, dir, address, dir)
		if err := os.WriteFile(config, []byte(text), 0o644); err != nil {
			return "", "", nil, err
		}
		cmd := exec.Command(nginx, "-c", config, "-e", filepath.Join(dir, "nginx.log"))
		if err := cmd.Start(); err != nil {
			return "", "", nil, err
		}
		time.Sleep(time.Second)
		return "http://" + address + "/large", "nginx with sendfile", func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }, nil
	}
	server := &http.Server{Handler: http.FileServer(http.Dir(dir))}
	go func() { _ = server.Serve(l) }()
	return "http://" + address + "/large", "Go's file server; nginx is not installed", func() { _ = server.Close() }, nil
}

func hashFile(path string) (artifact.Digest, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{f}, make([]byte, 256<<10)); err != nil {
		return "", err
	}
	return artifact.Digest(fmt.Sprintf("%x", h.Sum(nil))), nil
}

func copySynced(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{in}, make([]byte, 256<<10))
	return errors.Join(err, out.Sync(), out.Close())
}
