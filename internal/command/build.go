package command

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) start() *cobra.Command {
	var ref string
	var follow bool
	var asks []string
	cmd := &cobra.Command{Use: "start PIPELINE", Short: "Start a build", Args: cobra.ExactArgs(1),
		Example: "  oskeld start hivebook --ref v1.4.0 --follow\n  oskeld start hivebook --ask profile=debug --ask label='for Ida'"}
	cmd.Flags().StringArrayVar(&asks, "ask", nil, "NAME=VALUE for an ask of the file; may be repeated")
	cmd.Flags().StringVar(&ref, "ref", "", "branch, tag or commit (the source's default branch)")
	fresh := cmd.Flags().Bool("fresh", false, "take nothing over from earlier builds")
	cmd.Flags().BoolVar(&follow, "follow", false, "show the log as it comes; the exit code tells the outcome")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		chosen, err := parsePairs("ask", asks)
		if err != nil {
			return err
		}
		var b view.Build
		if err := cl.Call(cmd.Context(), http.MethodPost, "/api/v1/pipelines/"+args[0]+"/builds", map[string]any{"ref": ref, "asks": chosen, "fresh": *fresh}, &b); err != nil {
			return err
		}
		if c.json && !follow {
			return c.printJSON(b)
		}
		if !c.json {
			fmt.Fprintf(c.out, "%s %s  %s at %s %s\n", c.paint(buildRef(b), strong), b.Version, firstOf(b.Tag, b.Branch, b.Ref), short(b.Commit), c.paint(plainText(b.Subject), faint))
		}
		if !follow {
			fmt.Fprintf(c.out, "watch it: oskeld follow %s\n", buildRef(b))
			return nil
		}
		return c.followBuild(cmd.Context(), cl, b.Pipeline, b.Number)
	}
	return cmd
}

func (c *cli) sayExports(b view.BuildDetail) {
	said := false
	for _, r := range b.Runs {
		for _, e := range r.Exports {
			if !said {
				fmt.Fprintln(c.out, "\nexports")
				said = true
			}
			first, _, more := strings.Cut(e.Text, "\n")
			if more {
				first += " …"
			}
			fmt.Fprintf(c.out, "  %s = %s  %s\n", e.Name, plainText(first), c.paint(r.Title(), faint))
		}
	}
}

// parsePairs reads the NAME=VALUE of a flag that may be repeated; each name once.
func parsePairs(flag string, list []string) (map[string]string, error) {
	pairs := map[string]string{}
	for _, text := range list {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, fault.Invalid("--%s %q is not NAME=VALUE", flag, text)
		}
		if _, twice := pairs[name]; twice {
			return nil, fault.Invalid("--%s %s stands twice", flag, name)
		}
		pairs[name] = value
	}
	return pairs, nil
}

func buildRef(b view.Build) string { return b.Pipeline + "/" + strconv.Itoa(b.Number) }

// parseBuild reads PIPELINE/NUMBER.
func parseBuild(text string) (pipeline string, number int, err error) {
	pipeline, n, ok := strings.Cut(text, "/")
	number, err = strconv.Atoi(n)
	if !ok || err != nil || number < 1 || pipeline == "" {
		return "", 0, fault.Invalid("%q does not name a build", text).Hint("write PIPELINE/NUMBER, as in hivebook/57")
	}
	return pipeline, number, nil
}

func buildPath(pipeline string, number int) string {
	return "/api/v1/builds/" + pipeline + "/" + strconv.Itoa(number)
}

func (c *cli) follow() *cobra.Command {
	return &cobra.Command{Use: "follow PIPELINE/NUMBER", Short: "Show a build's log as it comes; the exit code tells the outcome", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			pipeline, number, err := parseBuild(args[0])
			if err != nil {
				return err
			}
			cl, err := c.client()
			if err != nil {
				return err
			}
			return c.followBuild(cmd.Context(), cl, pipeline, number)
		}}
}

// followed is how far a follower is.
type followed struct {
	c     *cli
	build view.BuildDetail
	last  map[int]int64 // fence by run, to tell a new hand-out
}

// followBuild shows lines as they come, and goes on where it stood when the connection breaks.
func (c *cli) followBuild(ctx context.Context, cl *client.Client, pipeline string, number int) error {
	f := &followed{c: c, last: map[int]int64{}}
	at, wait, ended := "", 200*time.Millisecond, false
	for {
		err := cl.Events(ctx, buildPath(pipeline, number)+"/follow", at, func(e client.Event) (bool, error) {
			if e.ID != "" {
				at = e.ID
			}
			wait = 200 * time.Millisecond
			more, err := f.take(e)
			ended = ended || e.Name == "end"
			return more, err
		})
		if err == nil && ended {
			break
		}
		if err != nil && !fault.Is(err, fault.KindUnavailable) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		if wait = min(2*wait, 5*time.Second); wait == 5*time.Second && err != nil && !c.quiet {
			fmt.Fprintln(c.err, "… the service is away; trying again")
		}
	}
	if c.json {
		if err := c.printJSON(f.build); err != nil {
			return err
		}
	} else {
		c.sayEnd(f.build)
	}
	if f.build.State != progress.Passed {
		return errNotPassed
	}
	return nil
}

func (f *followed) take(e client.Event) (more bool, err error) {
	switch e.Name {
	case "end":
		return false, nil
	case "problem":
		var p struct{ Type, Detail, Hint string }
		if err := json.Unmarshal(e.Data, &p); err != nil {
			return false, err
		}
		return false, &fault.Error{Kind: fault.Kind(strings.TrimPrefix(p.Type, "urn:oskeld:problem:")), Message: p.Detail, Advice: p.Hint}
	case "build":
		before := f.build
		f.build = view.BuildDetail{}
		if err := json.Unmarshal(e.Data, &f.build); err != nil {
			return false, err
		}
		if !f.c.json {
			f.sayMoves(before)
		}
	case "lines":
		var part view.LogPart
		if err := json.Unmarshal(e.Data, &part); err != nil {
			return false, err
		}
		if !f.c.json {
			f.sayLines(part)
		}
	}
	return true, nil
}

// sayMoves says which stage runs moved on.
func (f *followed) sayMoves(before view.BuildDetail) {
	for i, r := range f.build.Runs {
		was, wanted := progress.State(""), ""
		if i < len(before.Runs) {
			was, wanted = before.Runs[i].State, before.Runs[i].Wants
		}
		switch {
		case r.State == was && (r.State != progress.Waiting || r.Wants == wanted || r.Wants == "" || strings.HasPrefix(r.Wants, "waits for a place")):
		case r.State == progress.Waiting:
			if r.Wants != "" && was != "" || strings.HasPrefix(r.Wants, "waits for an agent") {
				fmt.Fprintf(f.c.out, "%s %s\n", f.c.state(r.State), f.c.paint(r.Title()+": "+r.Wants, faint))
			}
		case r.State == progress.Running:
			fmt.Fprintf(f.c.out, "%s %s on %s\n", f.c.state(r.State), f.c.paint(r.Title(), strong), r.Agent)
		default:
			text := r.Title()
			if r.StartedAt != nil && r.EndedAt != nil {
				text += " in " + took(r.EndedAt.Sub(*r.StartedAt).Milliseconds())
			}
			if r.Cause != "" {
				text += ": " + plainText(r.Cause)
			}
			fmt.Fprintf(f.c.out, "%s %s\n", f.c.state(r.State), text)
		}
	}
}

func (f *followed) sayLines(part view.LogPart) {
	name := strconv.Itoa(part.Run)
	if part.Run < len(f.build.Runs) {
		name = f.build.Runs[part.Run].Title()
	}
	if last, ok := f.last[part.Run]; ok && last != part.Fence {
		fmt.Fprintf(f.c.out, "%s\n", f.c.paint("── "+name+" was handed out again ──", ochre))
	}
	f.last[part.Run] = part.Fence
	for _, l := range part.Lines {
		text := l.Text
		if i := strings.LastIndexByte(text, '\r'); i >= 0 { // a progress bar shows as its last state
			text = text[i+1:]
		}
		text = plainText(text)
		if l.Error {
			text = f.c.paint(text, ember)
		}
		fmt.Fprintf(f.c.out, "%s %s\n", f.c.paint(name+" │", faint), text)
	}
}

// sayEnd sums a build up: outcome, failing tests, artifacts, and what to do next.
func (c *cli) sayEnd(b view.BuildDetail) {
	length := ""
	if b.EndedAt != nil {
		length = " after " + took(b.EndedAt.Sub(b.CreatedAt).Milliseconds())
	}
	fmt.Fprintf(c.out, "\n%s %s %s%s\n", c.state(b.State), c.paint(buildRef(b.Build), strong), b.Version, length)
	if b.Cause != "" {
		fmt.Fprintf(c.out, "  %s\n", plainText(b.Cause))
	}
	c.sayTests(b)
	for _, r := range b.Runs {
		for _, n := range r.Notes {
			fmt.Fprintf(c.out, "  note on %s: %s\n", r.Title(), plainText(n))
		}
	}
	for _, a := range b.Artifacts {
		if a.State == "sealed" {
			fmt.Fprintf(c.out, "  %s  %s, %s\n", c.paint(a.Ref(), strong), count(a.Files, "file"), size(a.Size))
		}
	}
}

func (c *cli) sayTests(b view.BuildDetail) {
	for _, r := range b.Runs {
		if r.Tests != nil {
			fmt.Fprintf(c.out, "  %s: %d tests, %d failed, %d skipped\n", r.Title(), r.Tests.Total, r.Tests.Failed, r.Tests.Skipped)
		}
	}
	for i, t := range b.Failed {
		if i == 10 {
			fmt.Fprintf(c.out, "  … and %d more\n", len(b.Failed)-i)
			break
		}
		fmt.Fprintf(c.out, "  %s %s %s\n", c.paint(t.Since, red), plainText(t.Name), c.paint(plainText(t.Suite), faint))
		for j, line := range strings.Split(t.Message, "\n") {
			if j == 4 {
				break
			}
			fmt.Fprintf(c.out, "      %s\n", plainText(line))
		}
	}
}

func (c *cli) builds() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "builds [PIPELINE]", Short: "List builds, newest first", Args: cobra.MaximumNArgs(1)}
	cmd.Flags().IntVar(&most, "most", 20, "how many")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		path := "/api/v1/builds"
		if len(args) == 1 {
			path = "/api/v1/pipelines/" + args[0] + "/builds"
		}
		return call(c, cmd, http.MethodGet, path+"?most="+strconv.Itoa(most), nil, func(l client.List[view.Build]) {
			printList(c, l.List, "no build yet: oskeld start PIPELINE", []string{"build", "state", "version", "from", "commit", ">took", ">waited", "by", "when"},
				func(t *table, b view.Build) {
					length := ""
					if b.EndedAt != nil {
						length = took(b.EndedAt.Sub(b.CreatedAt).Milliseconds())
					}
					t.row(cell{buildRef(b), strong}, b.State, b.Version, firstOf(b.Tag, b.Branch, b.Ref), short(b.Commit), length, took(b.WaitingMS), b.StartedBy, ago(b.CreatedAt))
				})
		})
	}
	return cmd
}

func (c *cli) show() *cobra.Command {
	return &cobra.Command{Use: "show PIPELINE/NUMBER | STORE/NAME@VERSION", Short: "Show a build, or an artifact", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		if strings.ContainsAny(args[0], "@:") {
			return c.showArtifact(cmd, args[0])
		}
		pipeline, number, err := parseBuild(args[0])
		if err != nil {
			return err
		}
		return call(c, cmd, http.MethodGet, buildPath(pipeline, number), nil, c.sayBuild)
	}}
}

func (c *cli) sayBuild(b view.BuildDetail) {
	round := ""
	if b.Round > 1 {
		round = fmt.Sprintf(", round %d", b.Round)
	}
	fmt.Fprintf(c.out, "%s %s  %s%s\n", c.state(b.State), c.paint(buildRef(b.Build), strong), b.Version, round)
	if b.Cause != "" {
		fmt.Fprintf(c.out, "  %s\n", plainText(b.Cause))
	}
	fmt.Fprintf(c.out, "  started by %s %s from %s at %s: %s\n", b.StartedBy, ago(b.CreatedAt), firstOf(b.Tag, b.Branch, b.Ref), short(b.Commit), plainText(b.Subject))
	if b.Why.Kind != view.ByPerson && b.Why.Says != "" {
		fmt.Fprintf(c.out, "  because %s\n", plainText(b.Why.Says))
	}
	fmt.Fprintf(c.out, "  version %s\n", b.Derivation)
	if len(b.Asks) > 0 {
		words := make([]string, len(b.Asks))
		for i, a := range b.Asks {
			words[i] = fmt.Sprintf("%s %q", a.Name, a.Text)
		}
		fmt.Fprintf(c.out, "  asks %s\n", strings.Join(words, ", "))
	}
	fmt.Fprintln(c.out)
	t := c.table("stage", "state", "agent", ">waiting", ">preparing", ">working", ">delivering", ">tests", "")
	for _, r := range b.Runs {
		tests := ""
		if r.Tests != nil {
			tests = fmt.Sprintf("%d/%d", r.Tests.Passed, r.Tests.Total)
		}
		name := r.Title()
		if r.Critical {
			name += " ·"
		}
		t.row(cell{name, strong}, r.State, r.Agent, took(r.WaitingMS), took(r.PreparingMS), took(r.WorkingMS), took(r.DeliveringMS), tests, plainText(firstOf(r.Cause, r.Wants)))
	}
	t.print()
	fmt.Fprintln(c.out, c.paint("· on the critical path", faint))
	for _, r := range b.Runs {
		if r.Reuse != "" && r.State != progress.Reused {
			fmt.Fprintln(c.out, c.paint(r.Title()+" is not reused: "+plainText(r.Reuse), faint))
		}
	}
	for _, r := range b.Runs {
		for _, t := range r.Tools {
			fmt.Fprintf(c.out, "%s had %s %s, %s\n", r.Title(), t.Name, plainText(t.Version), firstOf(t.From, "the agent's own"))
		}
	}
	for _, r := range b.Runs {
		for _, l := range r.Lost {
			after := ""
			if l.StartedAt != nil {
				after = " after " + took(l.LostAt.Sub(*l.StartedAt).Milliseconds())
			}
			fmt.Fprintf(c.out, "%s: agent %s was lost in the middle of it%s\n", r.Title(), l.Agent, after)
		}
		for _, note := range r.Notes {
			fmt.Fprintf(c.out, "%s: %s\n", r.Title(), plainText(note))
		}
	}
	c.sayEarlier(b)
	if len(b.Failed) > 0 {
		fmt.Fprintln(c.out, "\nfailing tests")
		c.sayTests(b)
	}
	if len(b.Changes) > 0 {
		since := "the newest commits"
		if b.Since > 0 {
			since = fmt.Sprintf("since %s/%d passed", b.Pipeline, b.Since)
		}
		fmt.Fprintf(c.out, "\nchanges, %s\n", since)
		for i, ch := range b.Changes {
			if i == 10 {
				fmt.Fprintf(c.out, "  … and %d more\n", len(b.Changes)-i)
				break
			}
			fmt.Fprintf(c.out, "  %s %s  %s\n", short(ch.Commit), plainText(ch.Subject), c.paint(plainText(ch.Author), faint))
		}
	}
	c.sayExports(b)
	if len(b.Inputs) > 0 {
		fmt.Fprintln(c.out, "\ntook in")
		for _, in := range b.Inputs {
			fmt.Fprintf(c.out, "  %s/%s@%s#%s  %s\n", in.Store, in.Name, in.Version, in.Path, c.paint("in "+in.Stage, faint))
		}
	}
	if len(b.Artifacts) > 0 {
		fmt.Fprintln(c.out, "\nartifacts")
		for _, a := range b.Artifacts {
			fmt.Fprintf(c.out, "  %s  %s, %s, %s\n", a.Ref(), a.State, count(a.Files, "file"), size(a.Size))
		}
	}
}
