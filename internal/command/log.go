package command

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

// log prints lines of a stage run's log, or finds some in it.
func (c *cli) log() *cobra.Command {
	var find string
	var from int64
	var most int
	cmd := &cobra.Command{Use: "log PIPELINE/NUMBER STAGE", Short: "Print the log of one stage, or find lines in it", Args: cobra.ExactArgs(2),
		Example: "  oskeld log hivebook/57 test --find 'no such file'\n  oskeld log hive-scale/4 'compile small' --from 1200 --most 50"}
	cmd.Flags().StringVar(&find, "find", "", "only the lines that hold this text, upper and lower case alike")
	cmd.Flags().Int64Var(&from, "from", 1, "the number of the first line")
	cmd.Flags().IntVar(&most, "most", 0, "so many lines at most; 0 for all")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if from < 1 || most < 0 {
			return fault.Invalid("--from counts from 1, and --most is no negative number")
		}
		pipeline, number, err := parseBuild(args[0])
		if err != nil {
			return err
		}
		cl, err := c.client()
		if err != nil {
			return err
		}
		var b view.BuildDetail
		if err := cl.Call(cmd.Context(), http.MethodGet, buildPath(pipeline, number), nil, &b); err != nil {
			return err
		}
		run, err := stageRunOf(b, args[1])
		if err != nil {
			return err
		}
		list := []view.LogLine{}
		err = eachLine(cmd.Context(), cl, fmt.Sprintf("%s/runs/%d", buildPath(pipeline, number), run.Index), find, from, most, func(l view.LogLine) {
			if c.json {
				list = append(list, l)
				return
			}
			text := plainText(l.Text)
			if l.Error {
				text = c.paint(text, ember)
			}
			fmt.Fprintf(c.out, "%s %s\n", c.paint(fmt.Sprintf("%6d", l.Number), faint), text)
		})
		if err == nil && c.json {
			err = c.printJSON(client.List[view.LogLine]{List: list})
		}
		return err
	}
	return cmd
}

// stageRunOf finds a stage run by its title, or by the stage's name where that has one run.
func stageRunOf(b view.BuildDetail, name string) (view.StageRun, error) {
	var named []view.StageRun
	var titles []string
	for _, r := range b.Runs {
		if r.Title() == name {
			return r, nil
		}
		if r.Name == name {
			named = append(named, r)
		}
		titles = append(titles, strconv.Quote(r.Title()))
	}
	switch len(named) {
	case 1:
		return named[0], nil
	case 0:
		return view.StageRun{}, fault.Missing("build %s has no stage %q", buildRef(b.Build), name).Hint("it has %s", strings.Join(titles, ", "))
	}
	return view.StageRun{}, fault.Invalid("stage %q ran in %d variants", name, len(named)).Hint("name one: %q", named[0].Title())
}

// eachLine calls f with lines of a log in order, asking for some thousands at a time.
func eachLine(ctx context.Context, cl *client.Client, path, find string, from int64, most int, f func(view.LogLine)) error {
	for told := 0; ; {
		at := 20_000
		if most > 0 {
			at = min(at, most-told)
		}
		query := url.Values{"first": {strconv.FormatInt(from, 10)}, "most": {strconv.Itoa(at)}}
		way := "/lines?"
		if find != "" {
			query.Set("text", find)
			way = "/find?"
		}
		var got view.LogFound // a part of a log has the same shape, without Next
		if err := cl.Call(ctx, http.MethodGet, path+way+query.Encode(), nil, &got); err != nil {
			return err
		}
		for _, l := range got.Lines {
			f(l)
			from = l.Number + 1
		}
		told += len(got.Lines)
		if find != "" {
			from = got.Next
		}
		if len(got.Lines) == 0 || from == 0 || most > 0 && told >= most {
			return nil
		}
	}
}
