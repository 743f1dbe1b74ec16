// Package postgres runs a private PostgreSQL on loopback, for `oskeld serve` without a database
// and for tests.
//
//	server, err := postgres.Start(ctx, postgres.Options{Dir: "/var/lib/oskeld/postgres"})
//	defer server.Stop()
//	pool, err := pgxpool.New(ctx, server.URL())
//
// As root the programs run as the system's user "postgres", as PostgreSQL demands.
package postgres

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Options for Start. Dir is the data directory; it is made where it is not there. Forgetful gives
// up safety against power loss for speed, for tests alone.
type Options struct {
	Dir       string
	Forgetful bool
}

// Server is a running PostgreSQL.
type Server struct {
	options  Options
	port     int
	password string
	process  *os.Process
	ended    chan struct{}
}

// Find gives the directory of PostgreSQL's programs, the newest of Debian's packages.
func Find() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(dirs, func(a, b string) int { return version(a) - version(b) })
	if len(dirs) > 0 {
		return filepath.Dir(dirs[len(dirs)-1]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", fault.Unavailable("PostgreSQL is not installed").
		Hint("apt-get install postgresql, or set OSKELD_DATABASE to a database that runs elsewhere")
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// Start makes the cluster where there is none, starts it on a free port of 127.0.0.1 and waits
// until it answers, at most a minute.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := Find()
	if err != nil {
		return nil, err
	}
	as, err := serverAccount()
	if err != nil {
		return nil, err
	}
	s := &Server{options: o}
	if err := s.make(ctx, bin, as); err != nil {
		return nil, err
	}
	password, err := os.ReadFile(filepath.Join(o.Dir, "oskeld.password"))
	if err != nil {
		return nil, fault.Conflict("%s is not a database that Oskeld made: %v", o.Dir, err).Hint("name another directory")
	}
	s.password = strings.TrimSpace(string(password))
	if s.port, err = freePort(); err != nil {
		return nil, err
	}
	return s, s.Restart(ctx)
}

// Restart starts the server again on the same port, after its process has ended.
func (s *Server) Restart(ctx context.Context) error {
	bin, err := Find()
	if err != nil {
		return err
	}
	as, err := serverAccount()
	if err != nil {
		return err
	}
	for until := time.Now().Add(10 * time.Second); ; {
		err = s.launch(ctx, bin, as)
		if err == nil || time.Now().After(until) || ctx.Err() != nil ||
			!strings.Contains(err.Error(), endedAtOnce) {
			return err
		}
		time.Sleep(100 * time.Millisecond) // one that was killed has not quite gone: its backends, its lock file
	}
}

// make runs initdb into a temporary name and renames it, so that a broken start leaves no half cluster.
func (s *Server) make(ctx context.Context, bin string, as account) error {
	dir := s.options.Dir
	if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); err == nil {
		return nil
	}
	parent := filepath.Dir(dir)
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return err
	}
	temp, err := os.MkdirTemp(parent, "making-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temp)
	if err := as.give(temp); err != nil {
		return err
	}
	password := rand.Text()
	file := filepath.Join(temp, "password")
	if err := os.WriteFile(file, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	if err := as.give(file); err != nil {
		return err
	}
	data := filepath.Join(temp, "data")
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", "oskeld", "--pwfile", file,
		"--auth=scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.Dir, cmd.SysProcAttr = temp, as.attributes()
	if out, err := cmd.CombinedOutput(); err != nil {
		text := strings.TrimSpace(string(out))
		return fault.Unavailable("initdb failed in %s: %s", parent, text[strings.LastIndexByte(text, '\n')+1:]).
			Hint("the directory must be reachable by the user \"postgres\"; /var/lib or /tmp are")
	}
	if err := os.Rename(file, filepath.Join(data, "oskeld.password")); err != nil {
		return err
	}
	if err := os.Rename(data, dir); err != nil {
		return fault.Conflict("%s is there and is no database: %v", dir, err).Hint("move it away, or name another directory")
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) launch(ctx context.Context, bin string, as account) error {
	s.ended = make(chan struct{})
	logPath := filepath.Join(s.options.Dir, "server.log")
	log, err := os.OpenFile(logPath, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	settings := []string{"-D", s.options.Dir, "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories=", "-c", "max_connections=60", "-c", "shared_buffers=64MB",
		"-c", "idle_in_transaction_session_timeout=30s", "-c", "log_min_messages=warning", "-c", "max_wal_size=512MB"}
	if s.options.Forgetful {
		settings = append(settings, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), settings...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = s.options.Dir, log, log
	cmd.SysProcAttr = as.attributes()
	started := make(chan error)
	ended := s.ended
	go func() {
		runtime.LockOSThread() // Pdeathsig follows the thread that starts the process
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
			close(ended)
		}
	}()
	if err := <-started; err != nil {
		return err
	}
	s.process = cmd.Process
	if err := s.await(ctx); err != nil {
		s.Stop()
		said, _ := os.ReadFile(logPath)
		text := strings.TrimSpace(string(said))
		return fault.Unavailable("PostgreSQL did not start in %s: %v: %s", s.options.Dir, err, text[strings.LastIndexByte(text, '\n')+1:]).
			Hint("its log is %s", logPath)
	}
	return nil
}

const endedAtOnce = "it ended at once"

// await waits until the server says that it is ready and takes a connection.
func (s *Server) await(ctx context.Context) error {
	deadline := time.After(time.Minute)
	for {
		if s.ready() {
			c, err := pgx.Connect(ctx, s.URL())
			if err == nil {
				return c.Close(ctx)
			}
		}
		select {
		case <-s.ended:
			return errors.New(endedAtOnce)
		case <-deadline:
			return errors.New("it did not answer within a minute")
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (s *Server) ready() bool {
	f, err := os.Open(filepath.Join(s.options.Dir, "postmaster.pid"))
	if err != nil {
		return false
	}
	defer f.Close()
	var lines []string
	for scan := bufio.NewScanner(f); scan.Scan(); {
		lines = append(lines, strings.TrimSpace(scan.Text()))
	}
	return len(lines) >= 8 && lines[0] == strconv.Itoa(s.process.Pid) && lines[7] == "ready"
}

// URL is the address to connect to, with the password.
func (s *Server) URL() string { return s.URLOf("postgres") }

// URLOf is the address of one database of the server.
func (s *Server) URLOf(name string) string {
	return fmt.Sprintf("postgres://oskeld:%s@127.0.0.1:%d/%s?sslmode=disable", s.password, s.port, name)
}

// Pid is the process id of the server.
func (s *Server) Pid() int { return s.process.Pid }

// Ended is closed when the server's process has ended, by Stop or by itself.
func (s *Server) Ended() <-chan struct{} { return s.ended }

// Stop ends the server, its clients' transactions undone, and waits for it.
func (s *Server) Stop() {
	if s.process == nil {
		return
	}
	_ = s.process.Signal(syscall.SIGINT)
	select {
	case <-s.ended:
		return
	case <-time.After(15 * time.Second):
	}
	_ = s.process.Signal(syscall.SIGQUIT)
	<-s.ended
}
