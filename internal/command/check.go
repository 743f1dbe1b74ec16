package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"
	_ "time/tzdata" // clock rules name zones, also where the system has none

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/service"
)

// checkOptions are what `check` is asked for.
type checkOptions struct {
	format  string
	against bool
	project string
	ref     string
	expand  bool
}

func (c *cli) check() *cobra.Command {
	var o checkOptions
	cmd := &cobra.Command{Use: "check [FILE | DIRECTORY | -]", Short: "Tell every mistake in a pipeline file", Args: cobra.MaximumNArgs(1),
		Long:    "Tell every mistake in a pipeline file. Exit 1 on an error. oskeld explain CODE tells more of each.",
		Example: "  oskeld check\n  oskeld check --against --ref v1.4.0\n  oskeld check --format sarif > check.sarif"}
	cmd.Flags().StringVar(&o.format, "format", "text", "text, json or sarif")
	cmd.Flags().BoolVar(&o.against, "against", false, "also check secrets, stores, agents, routines and the version against the service you are signed in to (--service names another)")
	cmd.Flags().StringVar(&o.project, "project", "", "with --against: where the pipeline is to build, if the service does not know it yet")
	cmd.Flags().StringVar(&o.ref, "ref", "", "with --against: what the next build would start from (the default branch)")
	cmd.Flags().BoolVar(&o.expand, "expand", false, "show every stage with its steps, those of routines too")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		name := "."
		if len(args) == 1 {
			name = args[0]
		}
		if c.json {
			o.format = "json"
		}
		if o.format != "text" && o.format != "json" && o.format != "sarif" {
			return fault.Invalid("%q is not a format", o.format).Hint("text, json or sarif")
		}
		if o.expand && o.format != "text" {
			return fault.Invalid("--expand is for people: it goes with --format text")
		}
		file, text, err := c.readPipeline(name)
		if err != nil {
			return err
		}
		return c.checkText(cmd.Context(), file, text, o)
	}
	return cmd
}

func (c *cli) checkText(ctx context.Context, file string, text []byte, o checkOptions) error {
	p, found := language.Read(file, text)
	if o.against && p != nil {
		cl, err := c.client()
		if err != nil {
			return err
		}
		var answer client.List[language.Diagnostic]
		body := map[string]string{"file": file, "text": string(text), "project": o.project, "ref": o.ref}
		if err := cl.Call(ctx, http.MethodPost, "/api/v1/checks", body, &answer); err != nil {
			return err
		}
		found = answer.List
	}
	switch o.format {
	case "json":
		if found == nil {
			found = language.Diagnostics{}
		}
		if err := c.printJSON(found); err != nil {
			return err
		}
	case "sarif":
		if err := c.printJSON(found.SARIF(service.Version)); err != nil {
			return err
		}
	default:
		c.sayDiagnostics(found)
	}
	n := found.Errors()
	switch {
	case n > 0 && o.format == "text":
		fmt.Fprintf(c.out, "%s, %s; oskeld explain %s tells more\n", count(n, "error"), count(len(found)-n, "warning"), found[0].Code)
		return errNotPassed
	case n > 0:
		return errNotPassed
	case o.format != "text":
		return nil
	}
	return c.sayRight(ctx, file, p, len(found), o)
}

func (c *cli) sayDiagnostics(found language.Diagnostics) {
	for _, d := range found {
		kind, colour := "error "+d.Code, red
		if d.Warning() {
			kind, colour = "warning "+d.Code, ochre
		}
		fmt.Fprint(c.out, strings.Replace(plainLines(d.Text()), kind, c.paint(kind, colour), 1))
	}
}

// plainLines takes control characters out of each line.
func plainLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = plainText(lines[i])
	}
	return strings.Join(lines, "\n")
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// sayRight sums up what a right file defines.
func (c *cli) sayRight(ctx context.Context, file string, p *language.Pipeline, warnings int, o checkOptions) error {
	if o.expand {
		wide, err := c.expand(ctx, p)
		if err != nil {
			return err
		}
		p = wide
	}
	asks, err := language.Choose(p.Asks, nil)
	if err != nil {
		return err
	}
	planned, err := plan.Make(p, asks)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "%s %s is right: pipeline %s, %s, %s in %s, %s\n", c.paint("◆", green), file, c.paint(string(p.Name), strong), count(len(p.Stages), "stage"),
		count(len(planned.Runs), "stage run"), count(len(planned.Chains), "chain"), count(warnings, "warning"))
	for _, chain := range planned.Chains {
		fmt.Fprintf(c.out, "  %s\n", planned.ChainTitle(chain))
	}
	if len(p.Asks) > 0 {
		fmt.Fprintln(c.out, "asks:")
		for _, a := range p.Asks {
			fmt.Fprintf(c.out, "  %s  %s\n", askTitle(a), c.paint(plainText(a.About), faint))
		}
	}
	if len(p.Starts) > 0 {
		fmt.Fprintln(c.out, "starts by itself after:")
	}
	for _, s := range p.Starts {
		fmt.Fprintf(c.out, "  %s\n", s)
		for _, at := range s.Next(time.Now(), 3) {
			fmt.Fprintf(c.out, "    %s\n", c.paint("next "+at.Format("Mon 2 Jan 2006 15:04 MST"), faint))
		}
	}
	if o.expand {
		c.sayStages(p)
	}
	return nil
}

func askTitle(a language.Ask) string {
	switch {
	case len(a.Picks) > 0:
		return fmt.Sprintf("%s: %s, usually %s", a.Name, strings.Join(a.Picks, " or "), a.Usual)
	case a.Kind == condition.TextValue:
		return fmt.Sprintf("%s: a line of text, usually %q", a.Name, a.Usual)
	case a.Kind == condition.FlagValue:
		return fmt.Sprintf("%s: true or false, usually %s", a.Name, a.Usual)
	}
	return fmt.Sprintf("%s: a number, usually %s", a.Name, a.Usual)
}

// sayStages shows each stage's steps with their scripts.
func (c *cli) sayStages(p *language.Pipeline) {
	for i := range p.Stages {
		s := &p.Stages[i]
		fmt.Fprintf(c.out, "\n%s", c.paint("stage "+string(s.Name), strong))
		if s.When != "" {
			fmt.Fprintf(c.out, "  when %s", s.When)
		}
		fmt.Fprintln(c.out)
		for n, step := range s.Steps {
			fmt.Fprintf(c.out, "  %d. %s\n", n+1, step.Title(n))
			for _, a := range step.Asks {
				fmt.Fprintf(c.out, "     %s\n", c.paint("ASK_"+strings.ToUpper(a.Name)+"="+a.Text, faint))
			}
			for line := range strings.Lines(strings.TrimSpace(step.Script)) {
				fmt.Fprintf(c.out, "     %s\n", plainText(strings.TrimRight(line, "\n")))
			}
		}
		for _, a := range s.Artifacts {
			fmt.Fprintf(c.out, "  delivers %s/%s %s\n", a.Store, a.Name, a.File)
		}
	}
}

// expand puts in the steps of routines, which come from the service.
func (c *cli) expand(ctx context.Context, p *language.Pipeline) (*language.Pipeline, error) {
	refs := p.Routines()
	if len(refs) == 0 {
		return p, nil
	}
	cl, err := c.client()
	if err != nil {
		return nil, fault.Refused("the file uses routine %s, which lies in a store", refs[0]).Because(err).Hint("sign in to the service that has it: oskeld login")
	}
	dir, err := os.MkdirTemp("", "oskeld-routine-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	texts := map[string][]byte{}
	for i, ref := range refs {
		into := filepath.Join(dir, fmt.Sprint(i))
		if err := os.Mkdir(into, 0o700); err != nil {
			return nil, err
		}
		names, err := cl.FetchInto(ctx, ref, into, client.Silent)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			if filepath.Ext(name) == ".toml" {
				if texts[ref], err = os.ReadFile(filepath.Join(into, name)); err != nil {
					return nil, err
				}
			}
		}
		if texts[ref] == nil {
			return nil, fault.Invalid("%s holds no file that ends in .toml, so it is no routine", ref)
		}
	}
	return language.Expand(p, texts)
}

func (c *cli) readPipeline(name string) (file string, text []byte, err error) {
	if name == "-" {
		text, err = io.ReadAll(io.LimitReader(c.in, language.MostBytes+1))
		return "standard input", text, err
	}
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		name = filepath.Join(name, language.FileName)
	}
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, fault.Missing("there is no %s", name).Hint("oskeld propose writes one for what is here; docs/first-pipeline.md shows the way")
	}
	if err != nil {
		return "", nil, fault.Invalid("%s cannot be read: %v", name, err)
	}
	defer f.Close()
	text, err = io.ReadAll(io.LimitReader(f, language.MostBytes+1))
	if err != nil {
		err = fault.Invalid("%s cannot be read: %v", name, err)
	}
	return name, text, err
}

func (c *cli) explain() *cobra.Command {
	return &cobra.Command{Use: "explain [CODE]", Short: "Tell what a code of check means, with an example", Args: cobra.MaximumNArgs(1), Example: "  oskeld explain S104",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var codes []string
			for _, e := range language.Explanations {
				codes = append(codes, e.Code+"\t"+e.Title)
			}
			return codes, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				if c.json {
					return c.printJSON(language.Explanations)
				}
				t := c.table("code", "meaning")
				for _, e := range language.Explanations {
					t.row(cell{e.Code, strong}, e.Title)
				}
				t.print()
				return nil
			}
			e, ok := language.Explain(args[0])
			if !ok {
				return fault.Missing("there is no code %q", args[0]).Hint("oskeld explain lists them")
			}
			if c.json {
				return c.printJSON(e)
			}
			c.sayExplanation(e)
			return nil
		}}
}

func (c *cli) sayExplanation(e language.Explanation) {
	fmt.Fprintf(c.out, "%s  %s\n\n%s\n", c.paint(e.Code, strong), c.paint(e.Title, strong), wrap(e.Text, 92))
	for _, part := range []struct{ title, text, colour string }{{"wrong", e.Wrong, red}, {"right", e.Right, green}} {
		if part.text == "" {
			continue
		}
		fmt.Fprintf(c.out, "\n%s\n", c.paint(part.title, part.colour))
		for line := range strings.Lines(part.text) {
			if len(line) > 100 {
				line = line[:97] + "…\n"
			}
			fmt.Fprintf(c.out, "    %s", line)
		}
	}
	if e.Wrong != "" {
		_, found := language.Read(language.FileName, []byte(e.Wrong))
		for _, d := range found {
			if d.Code == e.Code {
				fmt.Fprintf(c.out, "\n%s\n%s", c.paint("what check says", faint), plainLines(d.Text()))
				break
			}
		}
	}
}

// wrap breaks a text into lines of at most a width.
func wrap(text string, width int) string {
	var b strings.Builder
	at := 0
	for i, word := range strings.Fields(text) {
		switch {
		case i == 0:
		case at+1+len(word) > width:
			b.WriteString("\n")
			at = 0
		default:
			b.WriteString(" ")
			at++
		}
		b.WriteString(word)
		at += len(word)
	}
	return b.String()
}

func (c *cli) schema() *cobra.Command {
	return &cobra.Command{Use: "schema", Short: "Print the JSON Schema of oskeld.toml, for editors", Args: cobra.NoArgs,
		Long:    "Print the JSON Schema of oskeld.toml. Editors that read schemas of TOML complete and check it;\na service publishes the same at /api/v1/schema.",
		Example: "  oskeld schema > oskeld.schema.json",
		RunE: func(*cobra.Command, []string) error {
			return c.printJSON(language.Schema(language.PipelineShape))
		}}
}
