package command

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/console"
	"oskeld.dev/oskeld/internal/agent"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/postgres"
	"oskeld.dev/oskeld/internal/runner"
	"oskeld.dev/oskeld/internal/service"
	"oskeld.dev/oskeld/internal/web"
)

// serveOptions are the settings of a service, by flag or environment.
type serveOptions struct {
	dir, listen, url, key, owner string
	database                     string
	lease                        time.Duration
	verbose                      bool
}

func (c *cli) serve() *cobra.Command {
	var o serveOptions
	cmd := &cobra.Command{Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: "Runs the service. Without OSKELD_DATABASE it starts a PostgreSQL of its own in its\ndirectory, on loopback. On the first start it makes an owner and leaves the password in a file."}
	f := cmd.Flags()
	f.StringVar(&o.dir, "dir", firstOf(os.Getenv("OSKELD_DIR"), "/var/lib/oskeld"), "directory of all that the service keeps (OSKELD_DIR)")
	f.StringVar(&o.listen, "listen", firstOf(os.Getenv("OSKELD_LISTEN"), "127.0.0.1:7080"), "address to listen on (OSKELD_LISTEN)")
	f.StringVar(&o.url, "url", os.Getenv("OSKELD_URL"), "address under which people and agents reach it (OSKELD_URL; http://LISTEN)")
	f.StringVar(&o.key, "key", os.Getenv("OSKELD_KEY_FILE"), "file of the key that seals secrets (OSKELD_KEY_FILE; DIR/key, made on first start)")
	f.StringVar(&o.owner, "owner", "owner", "name of the owner who is made on the first start")
	f.DurationVar(&o.lease, "lease", 30*time.Second, "how long an agent may be silent before its work is handed out again")
	f.BoolVar(&o.verbose, "verbose", false, "log every request")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		o.database = os.Getenv("OSKELD_DATABASE")
		return c.runService(cmd.Context(), o)
	}
	return cmd
}

func (c *cli) runService(ctx context.Context, o serveOptions) error {
	level := slog.LevelInfo
	if o.verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(c.err, &slog.HandlerOptions{Level: level}))
	dir, err := filepath.Abs(o.dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fault.Unavailable("the directory %s cannot be made: %v", dir, err).Hint("name another with --dir")
	}
	// Listen first: a port that is taken is told before anything is started.
	listener, err := net.Listen("tcp", o.listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fault.Conflict("%s is taken by another program", o.listen).Hint("name another with --listen, or end what listens there (ss -ltnp shows it)")
	}
	if err != nil {
		return fault.Invalid("cannot listen on %s: %v", o.listen, err).Hint("--listen HOST:PORT")
	}
	if o.url == "" {
		o.url = "http://" + listener.Addr().String()
	}
	db, stopDatabase, err := openDatabase(ctx, o, dir, log)
	if err != nil {
		listener.Close()
		return err
	}
	defer stopDatabase()
	key, err := loadKey(firstOf(o.key, filepath.Join(dir, "key")))
	if err != nil {
		return err
	}
	svc, err := service.New(ctx, service.Options{DB: db, Dir: dir, Key: key, URL: o.url, Lease: o.lease, Log: log})
	if err != nil {
		return err
	}
	if err := firstOwner(ctx, svc, o.owner, dir, log); err != nil {
		return err
	}
	loops, stopLoops := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan struct{})
	go func() { svc.Run(loops); close(ended) }()
	log.Info("service ready", "address", o.url, "directory", dir, "version", service.Version)
	err = web.New(svc, web.Options{Console: console.Files(), Log: log}).Serve(ctx, listener)
	stopLoops()
	<-ended
	log.Info("service stopped")
	return err
}

// openDatabase connects to the database that is given, or starts one of our own and keeps it up.
func openDatabase(ctx context.Context, o serveOptions, dir string, log *slog.Logger) (*database.DB, func(), error) {
	url, stop := o.database, func() {}
	if url == "" {
		// The database outlives ctx: the service still writes while it stops.
		server, err := postgres.Start(ctx, postgres.Options{Dir: filepath.Join(dir, "postgres")})
		if err != nil {
			return nil, nil, err
		}
		url = server.URL()
		guard, cancel := context.WithCancel(context.WithoutCancel(ctx))
		guarded := make(chan struct{})
		go func() { keepUp(guard, server, log); close(guarded) }()
		stop = func() { cancel(); <-guarded; server.Stop() }
	}
	db, err := database.Open(ctx, url)
	if err == nil {
		err = db.Migrate(ctx)
		if err != nil && database.Unavailable(err) {
			err = fault.Unavailable("the database does not answer: %v", err).Hint("check OSKELD_DATABASE, and that it runs").Because(err)
		}
	}
	if err != nil {
		stop()
		return nil, nil, err
	}
	return db, func() { db.Close(); stop() }, nil
}

// keepUp starts our own PostgreSQL again when it ends by itself.
func keepUp(ctx context.Context, server *postgres.Server, log *slog.Logger) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-server.Ended():
		}
		if ctx.Err() != nil {
			return
		}
		log.Warn("PostgreSQL has ended and is started again")
		if err := server.Restart(ctx); err != nil {
			log.Error("PostgreSQL could not be started again", "error", err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second):
			}
		}
	}
}

// firstOwner makes the owner of a new service and leaves the password where only we can read it.
func firstOwner(ctx context.Context, svc *service.Service, name, dir string, log *slog.Logger) error {
	password := os.Getenv("OSKELD_OWNER_PASSWORD")
	made := password == ""
	if made {
		password = strings.ToLower(rand.Text()[:20])
	}
	first, err := svc.FirstPerson(ctx, name, name, password)
	if err != nil || !first || !made {
		return err
	}
	path := filepath.Join(dir, "owner-password")
	if err := os.WriteFile(path, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	log.Info("the first owner was made", "name", name, "password in", path)
	return nil
}

func (c *cli) agent() *cobra.Command {
	add := &cobra.Command{Use: "add", Short: "Make a token with which one agent may join, within a day", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return call(c, cmd, "POST", "/api/v1/agents", nil, func(out map[string]string) {
			fmt.Fprintln(c.out, out["token"])
			if !c.quiet {
				fmt.Fprintln(c.err, "on the agent's machine: OSKELD_JOIN_TOKEN=… oskeld agent run --service ADDRESS")
			}
		})
	}}
	remove := &cobra.Command{Use: "remove NAME", Short: "Bar an agent; what it runs is handed out again", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, "DELETE", "/api/v1/agents/"+args[0], nil, func(any) { fmt.Fprintf(c.out, "agent %s is barred\n", args[0]) })
	}}
	return group("agent", "The machines that builds run on", add, c.agentList(), c.agentRun(), c.agentSet(), remove)
}

func (c *cli) agentRun() *cobra.Command {
	host, _ := os.Hostname()
	var o agent.Options
	var tokenFile string
	var extra, env []string
	var sandbox, memory, keep string
	cmd := &cobra.Command{Use: "run", Short: "Run an agent on this machine", Args: cobra.NoArgs}
	f := cmd.Flags()
	f.StringVar(&o.Dir, "dir", firstOf(os.Getenv("OSKELD_AGENT_DIR"), "/var/lib/oskeld-agent"), "directory for copies of sources and workspaces (OSKELD_AGENT_DIR)")
	f.StringVar(&o.Name, "name", firstOf(os.Getenv("OSKELD_AGENT_NAME"), host), "its name, when it joins")
	f.IntVar(&o.Places, "places", 1, "how many assignments at a time")
	f.BoolVar(&o.Once, "once", false, "leave after one assignment, as machines do that are made for one")
	f.StringVar(&tokenFile, "join-token-file", "", "file with the join token (or OSKELD_JOIN_TOKEN)")
	f.StringArrayVar(&extra, "fact", nil, "a further fact, NAME=VALUE (may be repeated)")
	f.StringArrayVar(&env, "env", nil, "a variable for every step, NAME=VALUE (may be repeated)")
	f.StringVar(&sandbox, "sandbox", "auto", "off, auto (shut steps in where bubblewrap works) or strict (always, without network and without the home)")
	f.BoolVar(&o.Box.Network, "sandbox-network", false, "give steps the network also under --sandbox strict")
	f.StringArrayVar(&o.Box.Write, "sandbox-write", nil, "a directory that steps in the sandbox may write into (may be repeated)")
	f.StringVar(&memory, "step-memory", "", "the most memory that a step may have, such as 4GiB")
	f.IntVar(&o.Box.Processes, "step-processes", 0, "the most processes that a step may have at a time")
	f.DurationVar(&o.KeepTools, "keep-tools", 14*24*time.Hour, "after so long, unpacked tools that nobody used are removed")
	f.StringVar(&keep, "keep-bytes", "4GiB", "how much of carried files and caches is kept here for later stages; 0 for nothing")
	f.DurationVar(&o.Look, "look", 10*time.Minute, "how often it looks up its facts")
	f.DurationVar(&o.Beat, "beat", 5*time.Second, "how often it renews its leases; a sixth of the service's --lease")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		o.Service = firstOf(c.service, os.Getenv("OSKELD_SERVICE"), defaultService)
		o.JoinToken = os.Getenv("OSKELD_JOIN_TOKEN")
		if tokenFile != "" {
			text, err := os.ReadFile(tokenFile)
			if err != nil {
				return fault.Missing("the join token cannot be read: %v", err)
			}
			o.JoinToken = strings.TrimSpace(string(text))
		}
		var err error
		if o.Extra, err = pairs(extra); err != nil {
			return err
		}
		if o.Env, err = pairs(env); err != nil {
			return err
		}
		if o.Box.Mode, err = runner.ParseSandboxMode(sandbox); err != nil {
			return err
		}
		var ok bool
		if memory != "" {
			if o.Box.Memory, ok = facts.ParseSize(memory); !ok || o.Box.Memory <= 0 {
				return fault.Invalid("--step-memory %q is not a size", memory).Hint("write 500MiB or 4GiB")
			}
		}
		if o.KeepBytes, ok = facts.ParseSize(keep); !ok && keep != "0" || o.KeepBytes < 0 {
			return fault.Invalid("--keep-bytes %q is not a size", keep).Hint("write 500MiB or 20GiB, or 0")
		}
		o.Log = slog.New(slog.NewTextHandler(c.err, nil))
		program, err := os.Executable()
		if err != nil {
			return err
		}
		o.Program = program
		a, err := agent.Join(cmd.Context(), o)
		if err != nil {
			return err
		}
		return a.Run(cmd.Context())
	}
	return cmd
}

// pairs reads NAME=VALUE texts.
func pairs(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, pair := range list {
		name, value, ok := strings.Cut(pair, "=")
		if !ok || name == "" || value == "" {
			return nil, fault.Invalid("%q is not NAME=VALUE", pair)
		}
		out[name] = value
	}
	return out, nil
}
