// Package command is the command line: Cobra commands and how they print.
package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/service"
)

// Exit codes.
const (
	exitDone        = 0
	exitNotPassed   = 1 // it ran and did not pass
	exitUsage       = 2
	exitMissing     = 3
	exitRefused     = 4 // a rule, a right or a quota says no
	exitUnavailable = 5
)

// notPassed ends a command with exit code 1 and nothing more to say.
var errNotPassed = errors.New("did not pass")

// cli is what all commands share.
type cli struct {
	in      io.Reader
	out     io.Writer
	err     io.Writer
	service string
	json    bool
	quiet   bool
	begun   bool // arguments and flags were as the command takes them
}

// Main runs the command line and gives the exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return Run(ctx, args, os.Stdin, os.Stdout, os.Stderr)
}

// Run is Main with everything given.
func Run(ctx context.Context, args []string, in io.Reader, out, errs io.Writer) int {
	c := &cli{in: in, out: out, err: errs}
	root := c.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return exitDone
	}
	if errors.Is(err, errNotPassed) {
		return exitNotPassed
	}
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		return 130
	}
	if _, told := errors.AsType[*fault.Error](err); !told && !c.begun {
		hint := fmt.Sprintf("write %s; %s --help tells more", cmd.UseLine(), cmd.CommandPath())
		if cmd.HasSubCommands() {
			hint = cmd.CommandPath() + " --help lists the commands"
		}
		err = fault.Invalid("%v", err).Hint("%s", hint)
	}
	c.showError(err)
	return exitCode(err)
}

func exitCode(err error) int {
	e, ok := errors.AsType[*fault.Error](err)
	if !ok {
		return exitUsage
	}
	switch e.Kind {
	case fault.KindMissing:
		return exitMissing
	case fault.KindRefused, fault.KindConflict, fault.KindUnknown:
		return exitRefused
	case fault.KindUnavailable, fault.KindInternal:
		return exitUnavailable
	}
	return exitUsage
}

func (c *cli) showError(err error) {
	e, ok := errors.AsType[*fault.Error](err)
	if !ok {
		e = &fault.Error{Message: err.Error()}
	}
	fmt.Fprintf(c.err, "%s %s\n", c.paint("oskeld:", red), e.Message)
	if e.Advice != "" {
		fmt.Fprintf(c.err, "  → %s\n", e.Advice)
	}
}

func (c *cli) root() *cobra.Command {
	root := &cobra.Command{
		Use: "oskeld", Short: "Build on agents, keep what was built, promote it, trace it",
		Long:         "Oskeld runs staged pipelines on build agents, names and stores what they make,\npromotes the same bytes from store to store, and traces every file back.",
		SilenceUsage: true, SilenceErrors: true, Version: service.Version,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		if err := cmd.ValidateRequiredFlags(); err != nil {
			return err
		}
		c.begun = true
		return nil
	}
	flags := root.PersistentFlags()
	flags.StringVar(&c.service, "service", "", "address of the service (OSKELD_SERVICE; else the one of oskeld login)")
	flags.BoolVar(&c.json, "json", false, "print JSON, in the shapes of the API")
	flags.BoolVar(&c.quiet, "quiet", false, "no bars, no colour, no remarks")
	root.AddGroup(&cobra.Group{ID: "build", Title: "The file and builds:"}, &cobra.Group{ID: "artifact", Title: "Artifacts and their trace:"},
		&cobra.Group{ID: "setup", Title: "Set-up:"}, &cobra.Group{ID: "run", Title: "Running it:"})
	add := func(group string, commands ...*cobra.Command) {
		for _, sub := range commands {
			sub.GroupID = group
			root.AddCommand(sub)
		}
	}
	add("build", c.propose(), c.check(), c.explain(), c.schema(), c.rehearse(), c.version(), c.start(), c.follow(), c.log(), c.builds(), c.show(), c.stop(), c.again())
	add("artifact", c.list(), c.fetch(), c.deliver(), c.promote(), c.trace(), c.verify(), c.records())
	add("setup", c.login(), c.logout(), c.status(), c.project(), c.source(), c.pipeline(), c.secret(), c.cache(), c.store(), c.agent(), c.person(), c.token())
	add("run", c.serve(), c.rekey(), c.demo())
	return root
}

// group makes a command that only holds others; a word it does not know is an error.
func group(use, short string, subs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ArbitraryArgs, SuggestionsMinimumDistance: 2, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		e := fault.Invalid("oskeld %s has no command %q", use, args[0])
		if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
			return e.Hint("did you mean %q?", near[0])
		}
		return e.Hint("oskeld %s --help lists them", use)
	}}
	cmd.AddCommand(subs...)
	return cmd
}

// client gives a client for the service and token at hand: from the environment, as inside a step,
// or from the last login.
func (c *cli) client() (*client.Client, error) {
	saved, err := loadSession()
	if err != nil {
		return nil, err
	}
	address, token := saved.Service, saved.Token
	if env := os.Getenv("OSKELD_SERVICE"); env != "" {
		address = env
	}
	if c.service != "" {
		address = c.service
	}
	if env := os.Getenv("OSKELD_TOKEN"); env != "" {
		token = env
	}
	if address == "" {
		address = defaultService
	}
	if token == "" {
		return nil, fault.Unknown("you are not signed in").Hint("oskeld login --service %s", address)
	}
	return client.New(address, token), nil
}

const defaultService = "http://127.0.0.1:7080"

// printJSON prints v as the API shows it.
func (c *cli) printJSON(v any) error {
	e := json.NewEncoder(c.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// terminal tells whether output goes to a person.
func (c *cli) terminal() bool {
	f, ok := c.out.(*os.File)
	return ok && !c.quiet && os.Getenv("CI") == "" && term.IsTerminal(int(f.Fd()))
}
