package command

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) agentList() *cobra.Command {
	return listing(c, "list", "/api/v1/agents", "no agent yet: oskeld agent add", []string{"agent", "is", ">places", "does", "facts"}, func(t *table, a view.Agent) {
		is := cell{"here", green}
		switch {
		case !a.Here:
			is = cell{"away since " + ago(a.SeenAt), ochre}
		case a.Draining && len(a.Does) == 0:
			is = cell{"drained", ochre}
		case a.Draining:
			is = cell{"draining", ochre}
		}
		var facts []string
		for _, name := range slices.Sorted(maps.Keys(a.Facts)) {
			if name != "memory" {
				facts = append(facts, name+" "+a.Facts[name])
			}
		}
		t.row(cell{a.Name, strong}, is, a.Places, firstOf(strings.Join(a.Does, ", "), "nothing"), strings.Join(facts, ", "))
	})
}

func (c *cli) agentSet() *cobra.Command {
	cmd := &cobra.Command{Use: "set NAME --drain|--resume", Short: "Keep new work from an agent, or give it some again; what it runs it brings to its end", Args: cobra.ExactArgs(1)}
	drain := cmd.Flags().Bool("drain", false, "give it no new work")
	cmd.Flags().Bool("resume", false, "give it work again")
	cmd.MarkFlagsMutuallyExclusive("drain", "resume")
	cmd.MarkFlagsOneRequired("drain", "resume")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodPut, "/api/v1/agents/"+args[0], map[string]bool{"draining": *drain}, func(any) {
			if *drain {
				fmt.Fprintf(c.out, "agent %s gets no new work; oskeld agent list tells when it has brought all to its end\n", args[0])
				return
			}
			fmt.Fprintf(c.out, "agent %s takes work again\n", args[0])
		})
	}
	return cmd
}
