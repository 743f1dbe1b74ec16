package command

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) agentList() *cobra.Command {
	return listing(c, "list", "/api/v1/agents", "no agent yet: oskeld agent add", []string{"agent", "is", ">places", "does", "facts"}, func(t *table, a view.Agent) {
		is := cell{"here", green}
		if !a.Here {
			is = cell{"away since " + ago(a.SeenAt), ochre}
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
