package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/basis"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// readReuse looks up what the plan's chains say under `reuse`: the digest of the files at the commit, and
// which of them changed since the chain last passed. It runs before the build's transaction.
func (s *Service) readReuse(ctx context.Context, source git.Copy, st *start) error {
	for i := range st.plan.Chains {
		c := &st.plan.Chains[i]
		first := st.plan.Runs[c.Runs[0]].Stage
		if len(first.Reuse) == 0 {
			continue
		}
		patterns, err := files.ParsePatterns(first.Reuse)
		if err != nil {
			return err
		}
		c.Reuse = &plan.Reuse{Fresh: st.fresh}
		if c.Reuse.Files, err = source.FilesDigest(ctx, st.at.Commit, patterns.Match); err != nil {
			return err
		}
		last, ok, err := s.DB.LastBasis(ctx, st.pipeline.ID, st.plan.ChainNames(*c))
		if err != nil || !ok {
			continue
		}
		changed, err := source.ChangedPaths(ctx, last.Commit, st.at.Commit)
		if err != nil {
			return err
		}
		c.Reuse.Changed = slices.DeleteFunc(changed, func(path string) bool { return !patterns.Match(path) })
		c.Reuse.Changed = c.Reuse.Changed[:min(len(c.Reuse.Changed), 4)]
	}
	return nil
}

// takeOver lets chains that may begin take over the results of earlier ones with the same basis, and those
// chains that may begin thereby. What is left for agents is as progress says.
func (s *Service) takeOver(ctx context.Context, tx *database.DB, b database.Build, p progress.Build, offer []int) (next progress.Build, over bool, err error) {
	for len(offer) > 0 {
		i := offer[0]
		offer = offer[1:]
		c := b.Plan.Chains[i]
		if c.Reuse == nil || p.Chains[i].Fence > 0 || p.Chains[i].State != progress.ChainWaiting {
			continue
		}
		from, err := s.findReusable(ctx, tx, b, i)
		if err != nil {
			return p, false, err
		}
		if from == nil {
			continue
		}
		after, effects := p.Apply(progress.TakenOver{Chain: i, From: from.Name})
		if !effects.Applied {
			continue
		}
		for n, run := range c.Runs {
			if err := tx.TakeOverRun(ctx, b.ID, run, from.Build, from.Runs[n]); err != nil {
				return p, false, err
			}
		}
		p, over = after, effects.Over
		offer = append(offer, effects.Offer...)
	}
	return p, over, nil
}

// letGo lets the builds go on that waited for one which has ended. Those whose turn it is now take over first
// what the ended one made.
func (s *Service) letGo(ctx context.Context, tx *database.DB, ended database.Build) error {
	ids, err := tx.LetGo(ctx, ended)
	if err != nil {
		return err
	}
	for _, id := range ids {
		b, before, ok, err := tx.LockBuild(ctx, id, false)
		if err != nil {
			return err
		}
		if !ok || b.State.Over() { // stopped while it waited
			continue
		}
		after, over, err := s.takeOver(ctx, tx, b, before, before.Offered())
		if err != nil {
			return err
		}
		if err := tx.SaveProgress(ctx, id, before, after); err != nil {
			return err
		}
		if over {
			if err := s.finish(ctx, tx, b, after); err != nil {
				return err
			}
		}
		if err := tx.Notify(ctx, []string{TopicBuild(id.String())}); err != nil {
			return err
		}
	}
	return nil
}

// findReusable finds a chain whose results may be taken over, admits what it delivered to this build, and
// keeps the chain's basis with a note for people. Nil where there is none.
func (s *Service) findReusable(ctx context.Context, tx *database.DB, b database.Build, index int) (*database.PassedChain, error) {
	own, err := s.basisOf(ctx, tx, b, index)
	if err != nil {
		return nil, err
	}
	key := database.ChainKey{Build: b.ID, Index: index}
	if b.Plan.Chains[index].Reuse.Fresh {
		return nil, tx.SetBasis(ctx, key, own, "begun fresh, as was asked")
	}
	list, err := tx.ReusableChains(ctx, b.Pipeline, own.Key())
	if err != nil {
		return nil, err
	}
	for _, from := range list {
		if len(from.Runs) != len(b.Plan.Chains[index].Runs) {
			continue
		}
		ok, err := s.admitAgain(ctx, tx, b, index, from)
		if err != nil {
			return nil, err
		}
		if ok {
			return &from, tx.SetBasis(ctx, key, own, "taken over from "+from.Name)
		}
	}
	note := "nothing to take over yet"
	if last, ok, err := tx.LastBasis(ctx, b.Pipeline, b.Plan.ChainNames(b.Plan.Chains[index])); err != nil {
		return nil, err
	} else if ok {
		note = whatChanged(own, last, b.Plan.Chains[index].Reuse.Changed)
	}
	return nil, tx.SetBasis(ctx, key, own, note)
}

// whatChanged says which parts of a basis are not what they were when the chain last passed.
func whatChanged(own basis.Basis, last database.PassedChain, paths []string) string {
	parts := own.Changed(last.Basis)
	if len(parts) == 0 {
		return "not taken over from " + last.Name + ": its bytes are gone"
	}
	for i, part := range parts {
		if part == basis.Files && len(paths) > 0 {
			parts[i] = strings.Join(paths[:min(3, len(paths))], ", ")
			if len(paths) > 3 {
				parts[i] += " and more"
			}
		}
	}
	return fmt.Sprintf("changed since %s: %s", last.Name, strings.Join(parts, "; "))
}

// basisOf gathers what a chain of a build depends on.
func (s *Service) basisOf(ctx context.Context, tx *database.DB, b database.Build, index int) (basis.Basis, error) {
	c := b.Plan.Chains[index]
	runs, err := tx.Results(ctx, b.ID, b.Plan.Seen(c))
	if err != nil {
		return nil, err
	}
	in := basis.Inputs{Files: c.Reuse.Files, Values: braceValues(b), Secrets: map[string]string{}}
	in.Values["commit"] = b.Commit
	in.Exports, _ = before(b, runs, c)
	if in.Carried, err = carriedInto(runs, c.Carried); err != nil {
		return nil, err
	}
	secrets, err := tx.SecretsFor(ctx, b.Project, b.Pipeline)
	if err != nil {
		return nil, err
	}
	for name, x := range secrets {
		in.Secrets[name] = fmt.Sprintf("%s %d", x.Pipeline, x.Revision)
	}
	return basis.Of(b.Plan, index, in), nil
}

// admitAgain admits what an earlier chain delivered to this build's own artifacts, under its version; false,
// with nothing admitted, where bytes of it are gone.
func (s *Service) admitAgain(ctx context.Context, tx *database.DB, b database.Build, index int, from database.PassedChain) (bool, error) {
	runs, err := tx.Results(ctx, from.Build, from.Runs)
	if err != nil {
		return false, err
	}
	admissions, err := tx.AdmissionsOf(ctx, b.ID)
	if err != nil {
		return false, err
	}
	here := func(d artifact.Digest, size int64) bool {
		n, ok := s.blobs.Has(d)
		return ok && n == size
	}
	delivered := map[int][]database.DeliveredFile{}
	for n, run := range b.Plan.Chains[index].Runs {
		for _, f := range runs[from.Runs[n]].Carried {
			if f.Link == "" && !here(f.Digest, f.Size) {
				return false, nil
			}
		}
		if delivered[run], err = tx.DeliveredBy(ctx, from.Build, from.Runs[n]); err != nil {
			return false, err
		}
		for _, f := range delivered[run] {
			if !here(f.Digest, f.Size) {
				return false, nil
			}
		}
	}
	for run, list := range delivered {
		for _, f := range list {
			i := slices.IndexFunc(admissions, func(a database.Admission) bool {
				return a.StoreName == f.Store && a.Name == f.Name && a.State == "filling"
			})
			if i < 0 {
				return false, fmt.Errorf("build %s does not fill %s/%s, which %s delivered with the same basis", ref(b), f.Store, f.Name, from.Name)
			}
			file := artifact.File{Path: f.Path, Size: f.Size, Digest: f.Digest, Executable: f.Executable}
			if refused, err := s.fill(ctx, tx, admissions[i], run, []artifact.File{file}); err != nil || refused != "" {
				return false, err
			}
		}
	}
	return true, nil
}
