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
	return listing(c, "list", "/api/v1/agents", "no agent yet: oskeld agent add", []string{"agent", "is", ">places", "does", "for", "facts"}, func(t *table, a view.Agent) {
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
		t.row(cell{a.Name, strong}, is, a.Places, firstOf(strings.Join(a.Does, ", "), "nothing"), firstOf(admitted(a.Admits), "all"), strings.Join(facts, ", "))
	})
}

func (c *cli) agentSet() *cobra.Command {
	cmd := &cobra.Command{Use: "set NAME", Short: "Keep new work from an agent, or give it some again, and say whom it is for; what it runs it brings to its end", Args: cobra.ExactArgs(1),
		Example: "  oskeld agent set barrow --drain\n  oskeld agent set gantry --admit-pipeline hivebook --admit-ref 'v*'"}
	drain := cmd.Flags().Bool("drain", false, "give it no new work")
	cmd.Flags().Bool("resume", false, "give it work again")
	cmd.MarkFlagsMutuallyExclusive("drain", "resume")
	given, admits := admitFlags(cmd, "whose builds it takes")
	cmd.MarkFlagsOneRequired("drain", "resume", "admit-pipeline", "admit-ref", "admit-all")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		in := map[string]any{}
		if cmd.Flags().Changed("drain") || cmd.Flags().Changed("resume") {
			in["draining"] = *drain
		}
		if given() {
			in["admits"] = admits()
		}
		return call(c, cmd, http.MethodPut, "/api/v1/agents/"+args[0], in, func(any) {
			if given() {
				fmt.Fprintf(c.out, "agent %s is there for %s\n", args[0], admits())
			}
			switch in["draining"] {
			case true:
				fmt.Fprintf(c.out, "agent %s gets no new work; oskeld agent list tells when it has brought all to its end\n", args[0])
			case false:
				fmt.Fprintf(c.out, "agent %s takes work again\n", args[0])
			}
		})
	}
	return cmd
}
