package command

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/view"
)

// pollSeconds reads how often a source is looked at; 0 for never.
func pollSeconds(text string) (int, error) {
	if text == "off" {
		return 0, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Second || d > 24*time.Hour {
		return 0, fault.Invalid("--poll %s is not a time between 1s and 24h", text).Hint("write 30s, 5m, 1h or off")
	}
	return int(d.Seconds()), nil
}

// watched says how pushes to a source are noticed.
func watched(s view.Source) string {
	looks := "not looked at for pushes"
	if s.PollS > 0 {
		looks = "looked at for pushes every " + strings.NewReplacer("h0m0s", "h", "m0s", "m").Replace((time.Duration(s.PollS) * time.Second).String())
	}
	if s.Calls {
		return looks + "; signed calls are taken"
	}
	return looks + "; no signed calls: oskeld source key " + s.Name
}

func (c *cli) sourceKey() *cobra.Command {
	return &cobra.Command{Use: "key NAME", Short: "Make the key with which calls about a source are signed; an earlier one ends",
		Long: "A signed call tells the service at once that a source has moved, instead of at its next look.\nThe key is shown this once; keep it beside the hook that calls.",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			return call(c, cmd, http.MethodPost, "/api/v1/sources/"+args[0]+"/key", nil, func(k struct {
				Key string `json:"key"`
			}) {
				fmt.Fprintln(c.out, k.Key)
				fmt.Fprintln(c.err, "shown this once; docs/starts.md has the post-receive hook that signs with it")
			})
		}}
}

func (c *cli) pipelineShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show what starts a pipeline, and what could have lately", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		var out struct {
			view.Pipeline
			File   view.PipelineFile `json:"as_read"`
			Starts []view.Occurrence `json:"starts"`
		}
		path := "/api/v1/pipelines/" + args[0]
		var starts client.List[view.Occurrence]
		for at, into := range map[string]any{path: &out.Pipeline, path + "/file": &out.File, path + "/starts": &starts} {
			if err := cl.Call(cmd.Context(), http.MethodGet, at, nil, into); err != nil {
				return err
			}
		}
		out.Starts = starts.List
		if c.json {
			return c.printJSON(out)
		}
		c.sayPipeline(out.Pipeline, out.File, out.Starts)
		return nil
	}}
}

func (c *cli) sayPipeline(p view.Pipeline, f view.PipelineFile, starts []view.Occurrence) {
	fmt.Fprintf(c.out, "%s  %s\n  %s of source %s, %s at %s\n", c.paint(p.Name, strong), plainText(p.Summary), f.File, p.Source, f.Ref, short(f.Commit))
	for _, chain := range f.Chains {
		fmt.Fprintf(c.out, "  %s\n", chain)
	}
	if mistakes := language.Diagnostics(f.Diagnostics).Errors(); mistakes > 0 {
		fmt.Fprintf(c.out, "\n%s\n", c.paint(fmt.Sprintf("the file has %d to mend: oskeld check", mistakes), red))
	}
	fmt.Fprintln(c.out)
	switch {
	case p.Resting:
		fmt.Fprintf(c.out, "its start rules rest: oskeld pipeline set %s --starts on\n", p.Name)
	case len(f.Starts) == 0:
		fmt.Fprintln(c.out, "nothing starts it but people: [[start]] in its file changes that")
	default:
		fmt.Fprintln(c.out, "it starts by itself after")
	}
	for _, s := range f.Starts {
		fmt.Fprintf(c.out, "  %s\n", s.Says)
		for _, at := range s.Next {
			fmt.Fprintf(c.out, "      next %s\n", at.Format("Mon 2 Jan 2006 15:04 MST"))
		}
	}
	if len(starts) == 0 {
		return
	}
	fmt.Fprintln(c.out)
	t := c.table("when", "what happened", "what came of it")
	for _, o := range starts {
		cause := strings.Join(strings.Fields(o.Cause), " ")
		came := cell{"nothing: " + cause, faint}
		switch o.Outcome {
		case "started":
			came = cell{fmt.Sprintf("build %s/%d", p.Name, o.Number), strong}
		case "refused":
			came = cell{"refused: " + cause, red}
		}
		t.row(ago(o.At), o.Says, came)
	}
	t.print()
}

func (c *cli) pipelineSet() *cobra.Command {
	cmd := &cobra.Command{Use: "set NAME --starts on|off", Short: "Let a pipeline's start rules rest, or wake them; people may start it all the same", Args: cobra.ExactArgs(1)}
	starts := cmd.Flags().String("starts", "", "on or off")
	_ = cmd.MarkFlagRequired("starts")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if *starts != "on" && *starts != "off" {
			return fault.Invalid("--starts %q is neither on nor off", *starts)
		}
		return call(c, cmd, http.MethodPut, "/api/v1/pipelines/"+args[0], map[string]bool{"resting": *starts == "off"}, func(p view.Pipeline) {
			if p.Resting {
				fmt.Fprintf(c.out, "the start rules of %s rest; what happens meanwhile starts nothing, and is noted\n", p.Name)
				return
			}
			fmt.Fprintf(c.out, "the start rules of %s are awake\n", p.Name)
		})
	}
	return cmd
}
