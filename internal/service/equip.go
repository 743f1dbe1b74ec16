package service

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/archive"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// findTools looks in the stores of tools for what the stages of a plan are equipped with, so that rounds
// and retries get the same: of each tool the highest version that fits. What no store has, an agent must
// have itself.
func (s *Service) findTools(ctx context.Context, p *plan.Plan, pipeline, branch, tag string) error {
	var stores []database.Store
	p.Chains = slices.Clone(p.Chains) // plans are shared
	for i := range p.Chains {
		c := &p.Chains[i]
		for _, name := range p.Equips(*c) {
			if stores == nil {
				list, err := s.DB.ToolStores(ctx)
				if err != nil {
					return err
				}
				stores = slices.DeleteFunc(list, func(x database.Store) bool { return x.Admits.Refuses(pipeline, branch, tag) != "" })
			}
			tool, ok, err := s.findTool(ctx, stores, name, c.Demand[name])
			if err != nil {
				return err
			}
			if ok {
				c.Tools = append(c.Tools, tool)
			}
		}
	}
	return nil
}

func (s *Service) findTool(ctx context.Context, stores []database.Store, name, demand string) (tool plan.Tool, ok bool, err error) {
	for _, store := range stores {
		versions, err := s.DB.VersionsOf(ctx, store.ID, name)
		if err != nil {
			return tool, false, err
		}
		best := ""
		for _, v := range versions {
			if len(facts.Demand{name: demand}.Against(facts.Facts{name: v})) == 0 && (best == "" || facts.Newer(v, best)) {
				best = v
			}
		}
		if best == "" || ok && !facts.Newer(best, tool.Version) {
			continue
		}
		adm, err := s.DB.Admission(ctx, store.Name, name, best)
		if err != nil {
			return tool, false, err
		}
		list, err := s.DB.ContentFiles(ctx, *adm.Content)
		if err != nil {
			return tool, false, err
		}
		bySystem := map[string]artifact.File{}
		for _, f := range list {
			if archive.IsArchive(f.Path) || f.Executable {
				bySystem[systemOf(f.Path)] = f
			}
		}
		if len(bySystem) > 0 {
			tool, ok = plan.Tool{Name: name, Version: best, From: store.Name + "/" + name + "@" + best, Admission: adm.ID.String(), Files: bySystem}, true
		}
	}
	return tool, ok, nil
}

// systemName finds "linux-amd64" and the like in the name of a file.
var systemName = regexp.MustCompile(`(^|[^a-z0-9])(linux|darwin|windows)[-_.](amd64|arm64|386|arm|riscv64)([^a-z0-9]|$)`)

// systemOf tells by its name for which system a file of a tool is: "linux/amd64", or any.
func systemOf(file string) string {
	if m := systemName.FindStringSubmatch(strings.ToLower(path.Base(file))); m != nil {
		return m[2] + "/" + m[3]
	}
	return facts.Any
}

// noteTools notes what a stage run was equipped with: tools of a store count among what the build took in.
// Those that its plan does not know are left out.
func noteTools(ctx context.Context, tx *database.DB, b database.Build, run int, got []view.Tool) error {
	chain := b.Plan.Chains[b.Plan.Runs[run].Chain]
	for _, t := range got {
		i := slices.IndexFunc(chain.Tools, func(x plan.Tool) bool { return x.Name == t.Name && x.From == t.From })
		if i < 0 {
			continue
		}
		admission, err := uuid.Parse(chain.Tools[i].Admission)
		if err != nil {
			return err
		}
		for _, f := range chain.Tools[i].Files {
			if f.Digest == t.Digest {
				if err := tx.AddInput(ctx, b.ID, run, admission, f); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// equips tells whether a digest is a file of a tool that a chain is equipped with.
func (s *Service) equips(ctx context.Context, h database.ChainHolder, d artifact.Digest) (bool, error) {
	p, err := s.DB.Plan(ctx, h.Build)
	if err != nil || h.Index >= len(p.Chains) {
		return false, err
	}
	for _, t := range p.Chains[h.Index].Tools {
		for _, f := range t.Files {
			if f.Digest == d {
				return true, nil
			}
		}
	}
	return false, nil
}
