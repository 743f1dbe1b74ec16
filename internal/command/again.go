package command

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) stop() *cobra.Command {
	return &cobra.Command{Use: "stop PIPELINE/NUMBER", Short: "Stop a build", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		pipeline, number, err := parseBuild(args[0])
		if err != nil {
			return err
		}
		return call(c, cmd, http.MethodPost, buildPath(pipeline, number)+"/stop", nil, func(b view.Build) {
			if b.State.Over() {
				fmt.Fprintf(c.out, "%s %s\n", c.state(b.State), buildRef(b))
				return
			}
			fmt.Fprintf(c.out, "%s is asked to stop; its agents end what runs\n", buildRef(b))
		})
	}}
}

func (c *cli) again() *cobra.Command {
	cmd := &cobra.Command{Use: "again PIPELINE/NUMBER", Short: "Have another go at what did not pass in a build, or build it again whole", Args: cobra.ExactArgs(1),
		Long: "Without --whole the build goes on under its number and version, for three days after its end: what passed stands, and\n" +
			"what did not is run again. With --whole a new build is made of the same commit, with the same asks."}
	whole := cmd.Flags().Bool("whole", false, "a new build of the same commit")
	fresh := cmd.Flags().Bool("fresh", false, "with --whole: take nothing over from earlier builds")
	follow := cmd.Flags().Bool("follow", false, "show the log as it comes; the exit code tells the outcome")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		pipeline, number, err := parseBuild(args[0])
		if err != nil {
			return err
		}
		cl, err := c.client()
		if err != nil {
			return err
		}
		path := buildPath(pipeline, number) + "/round"
		if *whole {
			path = fmt.Sprintf("%s/again?fresh=%t", buildPath(pipeline, number), *fresh)
		}
		var b view.Build
		if err := cl.Call(cmd.Context(), http.MethodPost, path, nil, &b); err != nil {
			return err
		}
		switch {
		case *follow:
			return c.followBuild(cmd.Context(), cl, b.Pipeline, b.Number)
		case c.json:
			return c.printJSON(b)
		case *whole:
			fmt.Fprintf(c.out, "%s %s is %s again; watch it: oskeld follow %s\n", c.paint(buildRef(b), strong), b.Version, args[0], buildRef(b))
		default:
			fmt.Fprintf(c.out, "%s %s goes on, round %d; watch it: oskeld follow %s\n", c.paint(buildRef(b), strong), b.Version, b.Round, buildRef(b))
		}
		return nil
	}
	return cmd
}

// sayEarlier tells what became of stage runs in earlier rounds.
func (c *cli) sayEarlier(b view.BuildDetail) {
	if b.Round < 2 {
		return
	}
	fmt.Fprintln(c.out, "\nearlier rounds")
	for _, r := range b.Runs {
		for _, e := range r.Earlier {
			cause, _, _ := strings.Cut(plainText(firstOf(e.Cause, string(e.State))), "\n")
			fmt.Fprintf(c.out, "  round %d  %s %s: %s\n", e.Round, c.state(e.State), r.Title(), cause)
		}
	}
}
