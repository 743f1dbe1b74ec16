package command

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) cache() *cobra.Command {
	var project string
	with := func(cmd *cobra.Command) *cobra.Command {
		cmd.Flags().StringVar(&project, "project", "", "the project it belongs to")
		_ = cmd.MarkFlagRequired("project")
		return cmd
	}
	path := func() string { return "/api/v1/projects/" + project + "/caches" }
	list := with(&cobra.Command{Use: "list", Short: "List what a project's caches hold, the last used first", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return call(c, cmd, http.MethodGet, path(), nil, func(l view.Caches) {
			printList(c, l.List, "nothing is kept yet: `cache` of a stage says what", []string{"cache", "goes by", ">size", "saved by", "when", ">uses", "last", "id"}, func(t *table, x view.Cache) {
				t.row(cell{strings.Join(x.Dirs, ", "), strong}, strings.Join(slices.Sorted(maps.Keys(x.By)), ", ")+" on "+x.System, size(x.Size), x.From, ago(x.MadeAt), x.Uses, ago(x.UsedAt), cell{x.ID, faint})
			})
			fmt.Fprintf(c.out, "%s of %s; those unused for %d days go; they admit %s\n", size(l.Size), size(l.Quota), l.Days, l.Admits)
		})
	}})
	remove := with(&cobra.Command{Use: "remove ID", Short: "Remove a cache; builds save it anew", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodDelete, path()+"/"+args[0], nil, func(any) { fmt.Fprintf(c.out, "cache %s is gone\n", args[0]) })
	}})
	var quota string
	var days int
	var given func() bool
	var admits func() admit.List
	set := with(&cobra.Command{Use: "set", Short: "Set a project's quota of caches, how long unused ones are kept, and whom they admit", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		var now view.Caches
		if err := cl.Call(cmd.Context(), http.MethodGet, path(), nil, &now); err != nil {
			return err
		}
		if cmd.Flags().Changed("quota") {
			bytes, ok := facts.ParseSize(quota)
			if !ok {
				return fault.Invalid("--quota %q is not a size", quota).Hint("write 500MiB or 20GiB")
			}
			now.Quota = bytes
		}
		if cmd.Flags().Changed("days") {
			now.Days = days
		}
		if given() {
			now.Admits = admits()
		}
		return call(c, cmd, http.MethodPut, path(), map[string]any{"bytes": now.Quota, "days": now.Days, "admits": now.Admits}, func(any) {
			fmt.Fprintf(c.out, "caches of %s may have %s; those unused for %d days go; they admit %s\n", project, size(now.Quota), now.Days, now.Admits)
		})
	}})
	set.Flags().StringVar(&quota, "quota", "10GiB", "what all may have together")
	set.Flags().IntVar(&days, "days", 30, "after so many days unused ones go")
	given, admits = admitFlags(set, "whose builds find and save caches")
	set.MarkFlagsOneRequired("quota", "days", "admit-pipeline", "admit-ref", "admit-all")
	return group("cache", "Directories kept between builds", list, set, remove)
}
