package service

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/proposal"
	"oskeld.dev/oskeld/internal/core/view"
)

// PipelineFile reads a pipeline's file at a ref, with all that it says: diagnostics, asks, start rules
// with the next times of clocks, and the chains of its plan. A file with mistakes is shown as well.
func (s *Service) PipelineFile(ctx context.Context, a Actor, pipeline, ref string) (view.PipelineFile, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, Read)
	if err != nil {
		return view.PipelineFile{}, err
	}
	st := &start{pipeline: p, ref: ref}
	source, err := s.fetchSource(ctx, st)
	if err != nil {
		return view.PipelineFile{}, err
	}
	text, err := source.File(ctx, st.at.Commit, p.File, language.MostBytes)
	if err != nil {
		return view.PipelineFile{}, err
	}
	read, diagnostics := language.Read(p.File, text)
	f := view.PipelineFile{File: p.File, Ref: st.ref, Commit: st.at.Commit, Text: string(text), Diagnostics: orEmpty(diagnostics),
		Asks: []language.Ask{}, Starts: []view.StartRule{}, Chains: []string{}}
	if read == nil {
		return f, nil
	}
	f.Asks = orEmpty(read.Asks)
	now := time.Now()
	for _, rule := range read.Starts {
		f.Starts = append(f.Starts, view.StartRule{Says: rule.String(), Next: orEmpty(rule.Next(now, 3))})
	}
	asks, err := language.Choose(read.Asks, nil)
	if err != nil {
		return f, err
	}
	made, err := plan.Make(read, asks)
	if err != nil {
		return f, err
	}
	for _, c := range made.Chains {
		f.Chains = append(f.Chains, made.ChainTitle(c))
	}
	return f, nil
}

// mostProposed is how many names of a source are looked at for a proposal.
const mostProposed = 200_000

// Propose proposes a pipeline file for what a source holds at a ref. Artifacts go to the lowest store
// of its project; answers settle what it is unsure about, by key.
func (s *Service) Propose(ctx context.Context, a Actor, name, ref string, answers map[string]string) (view.SourceProposal, error) {
	src, err := s.sourceFor(ctx, a, name, Read)
	if err != nil {
		return view.SourceProposal{}, err
	}
	refs, err := s.look(ctx, src)
	if err != nil {
		return view.SourceProposal{}, err
	}
	source, _, err := s.source(src)
	if err != nil {
		return view.SourceProposal{}, err
	}
	if err := source.Fetch(ctx); err != nil {
		return view.SourceProposal{}, err
	}
	at, err := source.Resolve(ctx, cmp.Or(ref, refs.Default, "main"))
	if err != nil {
		return view.SourceProposal{}, err
	}
	names, cut, err := source.Names(ctx, at.Commit, mostProposed)
	if err != nil {
		return view.SourceProposal{}, err
	}
	stores, err := s.Stores(ctx, a)
	if err != nil {
		return view.SourceProposal{}, err
	}
	o := proposal.Options{Answers: answers}
	for _, store := range stores { // lowest first
		if store.Project == src.ProjectName && store.Format == "files" {
			o.Store = store.Name
			break
		}
	}
	tree := proposal.Tree{Name: src.Name, Names: names, Cut: cut, Read: func(name string) ([]byte, error) {
		return source.File(ctx, at.Commit, name, 1<<20)
	}}
	tree.Tags = slices.Sorted(maps.Keys(refs.Tags))
	p := view.SourceProposal{Proposal: proposal.Make(tree, o), File: language.FileName, There: slices.Contains(names, language.FileName)}
	if read, diagnostics := language.Read(language.FileName, []byte(p.Text)); read == nil {
		return p, fault.Invalid("the proposal is not right:\n%s", diagnostics.Text())
	}
	return p, nil
}
