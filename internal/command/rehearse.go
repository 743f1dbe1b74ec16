package command

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/reading"
	"oskeld.dev/oskeld/internal/git"
	"oskeld.dev/oskeld/internal/rehearsal"
	"oskeld.dev/oskeld/internal/runner"
)

// rehearseFlags are what `rehearse` is asked for.
type rehearseFlags struct {
	file       string
	jobs       int
	only, from bool
	vary       []string
	asks       []string
	env        []string
	secretFile string
	clean      bool
	explain    bool
}

func (c *cli) rehearse() *cobra.Command {
	var f rehearseFlags
	cmd := &cobra.Command{Use: "rehearse [STAGE...]", Short: "Run the pipeline here, whole or up to some stages",
		Long: `Run the pipeline here, whole or up to the named stages, through the engine that agents use.

The first chain runs in the working tree, the others in copies of its tracked and unignored files;
files that are stamped are put back. What is delivered is laid under .oskeld/artifacts. HOME is yours,
or with --clean a private one; else steps see a clean environment, as on an agent. Secrets come from
your environment or a file.`,
		Example: "  oskeld rehearse\n  oskeld rehearse test\n  oskeld rehearse --only compile --vary os=linux\n  oskeld rehearse --ask profile=debug --explain\n  git checkout v1.4.0 && oskeld rehearse --clean"}
	flags := cmd.Flags()
	flags.StringVar(&f.file, "file", ".", "the pipeline file, or its directory")
	flags.IntVar(&f.jobs, "jobs", max(1, runtime.NumCPU()), "how many chains run side by side")
	flags.BoolVar(&f.only, "only", false, "only the named stages, not what they need; carried files are those of the last rehearsal")
	flags.BoolVar(&f.from, "from", false, "the named stages and all that comes after them")
	flags.StringArrayVar(&f.vary, "vary", nil, "AXIS=VALUE: only variants with this value; may be repeated")
	flags.StringArrayVar(&f.asks, "ask", nil, "NAME=VALUE for an ask of the file; may be repeated")
	flags.StringArrayVar(&f.env, "env", nil, "NAME of a variable of yours that steps see too; may be repeated")
	flags.StringVar(&f.secretFile, "secret-file", "", "a file with a line NAME=VALUE for each secret")
	flags.BoolVar(&f.clean, "clean", false, "work in a fresh checkout of HEAD; at a tag, with the version of the tag")
	flags.BoolVar(&f.explain, "explain", false, "tell what would run, in what order and where, and run nothing")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		r, err := c.prepareRehearsal(cmd.Context(), args, f)
		if err != nil {
			return err
		}
		if f.explain {
			if c.json {
				return c.printJSON(r.Plan)
			}
			fmt.Fprint(c.out, r.Explain())
			return nil
		}
		return c.runRehearsal(cmd.Context(), r)
	}
	return cmd
}

func (c *cli) prepareRehearsal(ctx context.Context, stages []string, f rehearseFlags) (*rehearsal.Rehearsal, error) {
	if (f.only || f.from) && len(stages) == 0 || f.only && f.from {
		return nil, fault.Invalid("--only and --from go with the names of stages, one of the two").Hint("oskeld rehearse --only compile")
	}
	name, text, err := c.readPipeline(f.file)
	if err != nil {
		return nil, err
	}
	dir, err := fileOrHere(filepath.Dir(name))
	if err != nil {
		return nil, err
	}
	if f.clean {
		if text, err = fileAtHead(ctx, dir, name); err != nil {
			return nil, err
		}
	}
	p, found := language.Read(name, text)
	if !c.json {
		c.sayDiagnostics(found)
	}
	if p == nil {
		return nil, fault.Invalid("%s has %s", name, count(found.Errors(), "error")).Hint("mend them; oskeld check tells the same")
	}
	o := rehearsal.Options{Dir: dir, Jobs: f.jobs, Clean: f.clean, Part: plan.Part{UpTo: stages}}
	switch {
	case f.only:
		o.Part = plan.Part{Only: stages}
	case f.from:
		o.Part = plan.Part{From: stages}
	}
	if o.Part.Variant, err = parseVariant(f.vary); err != nil {
		return nil, err
	}
	if o.Pipeline, err = c.expand(ctx, p); err != nil {
		return nil, err
	}
	chosen, err := parsePairs("ask", f.asks)
	if err != nil {
		return nil, err
	}
	if o.Asks, err = language.Choose(p.Asks, chosen); err != nil {
		return nil, err
	}
	if o.Secrets, err = secretsHere(p.Secrets, f.secretFile); err != nil {
		return nil, err
	}
	if err := c.surroundings(&o, f.env); err != nil {
		return nil, err
	}
	return rehearsal.Prepare(ctx, o)
}

// fileAtHead reads the pipeline file as it was committed.
func fileAtHead(ctx context.Context, dir, name string) ([]byte, error) {
	here, err := git.Find(ctx, dir)
	if err != nil {
		return nil, err
	}
	head, _, err := here.Head(ctx)
	if err != nil {
		return nil, err
	}
	absolute, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	inside, err := filepath.Rel(here.Root, realPath(absolute))
	if err != nil {
		return nil, err
	}
	return here.File(ctx, head.Commit, filepath.ToSlash(inside), language.MostBytes)
}

func parseVariant(list []string) (v language.Variant, err error) {
	pairs, err := parsePairs("vary", list)
	for axis, value := range pairs {
		v = append(v, language.Pair{Axis: axis, Value: value})
	}
	return v, err
}

// secretsHere finds the values of secrets in a file of lines NAME=VALUE, else in the environment.
func secretsHere(names []string, file string) (map[string]string, error) {
	secrets := map[string]string{}
	for _, name := range names {
		if value, ok := os.LookupEnv(name); ok {
			secrets[name] = value
		}
	}
	if file == "" {
		return secrets, nil
	}
	opened, err := os.Open(file)
	if err != nil {
		return nil, fault.Missing("the file of secrets %s cannot be read", file).Because(err)
	}
	defer opened.Close()
	lines := bufio.NewScanner(opened)
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimRight(lines.Text(), "\r")
		if strings.TrimSpace(text) == "" || strings.HasPrefix(text, "#") {
			continue
		}
		name, value, ok := strings.Cut(text, "=")
		if !ok || !slices.Contains(names, strings.TrimSpace(name)) { // never the line itself: it may be a secret
			return nil, fault.Invalid("line %d of %s is not NAME=VALUE for a secret of the pipeline", n, file).Hint("it names %s", strings.Join(names, ", "))
		}
		secrets[strings.TrimSpace(name)] = value
	}
	if err := lines.Err(); err != nil {
		return nil, fault.Invalid("the file of secrets %s cannot be read: %v", file, err)
	}
	return secrets, nil
}

// passed are the variables that tell where packages come from and how to get there.
var passed = []string{"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "http_proxy", "https_proxy", "no_proxy", "SSH_AUTH_SOCK", "XDG_CACHE_HOME",
	"GOPROXY", "GONOSUMDB", "GOMODCACHE", "GOCACHE", "NPM_CONFIG_REGISTRY", "PIP_INDEX_URL", "CARGO_HOME", "RUSTUP_HOME", "JAVA_HOME"}

// surroundings say where workspaces lie, what the environment is, and who fetches.
func (c *cli) surroundings(o *rehearsal.Options, env []string) error {
	o.Env = map[string]string{}
	for _, name := range passed {
		if value, ok := os.LookupEnv(name); ok {
			o.Env[name] = value
		}
	}
	for _, name := range env {
		value, ok := os.LookupEnv(name)
		if !ok {
			return fault.Invalid("--env %s: there is no such variable", name)
		}
		o.Env[name] = value
	}
	if !o.Clean { // then a private one, as on an agent
		o.Home, _ = os.UserHomeDir()
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	o.Work = filepath.Join(cache, "oskeld", "rehearse", string(artifact.DigestOf([]byte(o.Dir))[:12]))
	if o.Program, err = os.Executable(); err != nil {
		return err
	}
	if session, err := sessionPath(); err == nil { // for steps that call oskeld
		o.Env["OSKELD_SESSION"] = session
	}
	if cl, err := c.client(); err == nil {
		o.Fetch = func(ctx context.Context, ref, dir string) ([]string, error) {
			return cl.FetchInto(ctx, ref, dir, client.Silent)
		}
		o.Service = cl.Service
	}
	return nil
}

// runRehearsal runs it, shows it, and sums it up. The first Ctrl-C stops it, the second kills.
func (c *cli) runRehearsal(ctx context.Context, r *rehearsal.Rehearsal) error {
	for _, l := range r.LeftOut {
		if !c.json {
			fmt.Fprintf(c.out, "%s %s: %s\n", c.paint("left out", ochre), l.Run, l.Why)
		}
	}
	kill, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	stop := make(chan struct{})
	view := c.stageView(r)
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	var listening sync.WaitGroup
	listening.Go(func() { listen(ctx, kill, signals, stop, cancel, view.say) })
	outcome, err := r.Run(kill, stop, rehearsal.Watch{Moved: view.moved, Lines: view.lines})
	view.end()
	cancel()
	listening.Wait()
	runner.Remove(r.Work)
	if outcome.State != "" {
		if c.json {
			err = errors.Join(err, c.printJSON(outcome))
		} else {
			c.sayOutcome(r, outcome)
		}
	}
	if err != nil {
		return err
	}
	if outcome.State != progress.Passed {
		return errNotPassed
	}
	return nil
}

// listen turns the end of ctx and the first signal into a stop, and a second signal into a kill.
func listen(ctx, over context.Context, signals <-chan os.Signal, stop chan struct{}, cancel func(), say func(string)) {
	stopOnce := sync.OnceFunc(func() {
		say("stopping; again to kill")
		close(stop)
	})
	asked := ctx.Done()
	for n := 0; ; {
		select {
		case <-asked:
			asked = nil
			stopOnce()
		case <-signals:
			if stopOnce(); n == 1 {
				cancel()
			}
			n++
		case <-over.Done():
			return
		}
	}
}

// sayOutcome sums a rehearsal up: failed tests first, then stages, artifacts and notes.
func (c *cli) sayOutcome(r *rehearsal.Rehearsal, o rehearsal.Outcome) {
	fmt.Fprintf(c.out, "\n%s %s %s after %s\n", c.state(o.State), c.paint(string(r.Pipeline.Name), strong), o.Version, took(o.TookMS))
	if o.Cause != "" {
		fmt.Fprintf(c.out, "  %s\n", plainText(o.Cause))
	}
	c.sayFailedTests(o)
	if !c.terminal() { // there each stage's end stands above already
		c.sayResults(o.Results)
	}
	for _, res := range o.Results {
		for _, n := range res.Notes {
			fmt.Fprintf(c.out, "%s %s: %s\n", c.paint("note", ochre), res.Run, plainText(n))
		}
	}
	for _, n := range o.Notes {
		fmt.Fprintf(c.out, "%s %s\n", c.paint("note", ochre), plainText(n))
	}
	for _, l := range o.LeftOut {
		fmt.Fprintf(c.out, "%s %s: %s\n", c.paint("left out", ochre), l.Run, l.Why)
	}
	for _, a := range o.Artifacts {
		between := "  "
		if c.terminal() { // where a long line breaks anywhere
			between = "\n    "
		}
		fmt.Fprintf(c.out, "%s  %s%s%s\n", c.paint(a.Path, strong), size(a.Size), between, c.paint(a.Digest.String(), faint))
	}
}

func (c *cli) sayResults(results []rehearsal.Result) {
	t := c.table("stage", "state", ">took", "")
	for _, res := range results {
		length := ""
		if res.TookMS > 0 {
			length = took(res.TookMS)
		}
		t.row(cell{res.Run, strong}, res.State, length, cell{plainText(res.Cause), faint})
	}
	t.print()
}

func (c *cli) sayFailedTests(o rehearsal.Outcome) {
	var all reading.Summary
	shown := 0
	for _, res := range o.Results {
		if res.Tests == nil {
			continue
		}
		s := res.Tests.Sum
		all = reading.Summary{Total: all.Total + s.Total, Passed: all.Passed + s.Passed, Failed: all.Failed + s.Failed, Skipped: all.Skipped + s.Skipped}
		for _, t := range res.Tests.Failed {
			if shown++; shown > 20 {
				continue
			}
			fmt.Fprintf(c.out, "  %s %s  %s  %s\n", c.paint("failed", red), c.paint(firstOf(t.Place(), res.Run), strong), plainText(t.Name), c.paint(plainText(t.Suite), faint))
			for i, line := range strings.Split(strings.TrimSpace(t.Message), "\n") {
				if i == 6 {
					break
				}
				fmt.Fprintf(c.out, "      %s\n", plainText(line))
			}
		}
	}
	if shown > 20 {
		fmt.Fprintf(c.out, "  … and %d more\n", shown-20)
	}
	if all.Total > 0 {
		fmt.Fprintf(c.out, "  %s, %d failed, %d skipped\n", count(all.Total, "test"), all.Failed, all.Skipped)
	}
}
