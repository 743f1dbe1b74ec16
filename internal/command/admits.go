package command

import (
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/admit"
)

// admitFlags are the flags that say whom a thing admits: one flag a pipeline and a pattern of refs, or all.
func admitFlags(cmd *cobra.Command, what string) (given func() bool, list func() admit.List) {
	var l admit.List
	f := cmd.Flags()
	f.StringArrayVar(&l.Pipelines, "admit-pipeline", nil, "a pipeline "+what+"; may be repeated")
	f.StringArrayVar(&l.Refs, "admit-ref", nil, "pattern of branches and tags "+what+"; may be repeated")
	f.Bool("admit-all", false, "admit every pipeline and ref again")
	cmd.MarkFlagsMutuallyExclusive("admit-all", "admit-pipeline")
	cmd.MarkFlagsMutuallyExclusive("admit-all", "admit-ref")
	given = func() bool {
		return f.Changed("admit-pipeline") || f.Changed("admit-ref") || f.Changed("admit-all")
	}
	return given, func() admit.List {
		return admit.List{Pipelines: append([]string{}, l.Pipelines...), Refs: append([]string{}, l.Refs...)}
	}
}

// admitted says in a table's cell whom a thing admits.
func admitted(l admit.List) string {
	return strings.Join(append(append([]string{}, l.Pipelines...), l.Refs...), ", ")
}
