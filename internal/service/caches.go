package service

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/cache"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// FindCache finds a cache for the stage run that a token stands for, and notes that it took it in. Where
// there is none it says why: what changed since the newest one of the same directories.
func (s *Service) FindCache(ctx context.Context, a Actor, basis cache.Basis) (assignment.CacheFound, error) {
	var none assignment.CacheFound
	if a.Stage == nil {
		return none, fault.Refused("caches are found by stage runs alone")
	}
	run, err := s.runningIn(ctx, *a.Stage)
	if err != nil {
		return none, err
	}
	if why, err := s.cachesRefuse(ctx, s.DB, a.Stage.Build); err != nil || why != "" {
		return assignment.CacheFound{Why: why}, err
	}
	c, ok, err := s.DB.FindCache(ctx, a.Stage.Project, basis.Key())
	if err != nil {
		return none, err
	}
	if ok {
		if _, here := s.blobs.Has(c.Digest); here {
			return assignment.CacheFound{Digest: c.Digest, Size: c.Size, From: c.From}, s.DB.Change(ctx, func(tx *database.DB) error {
				return tx.UseCache(ctx, c.ID, a.Stage.Build, run)
			})
		}
	}
	before, ok, err := s.DB.NewestCache(ctx, a.Stage.Project, basis.Name())
	if err != nil || !ok {
		return assignment.CacheFound{Why: "nothing is saved yet"}, err
	}
	changed := basis.Changed(before.Basis)
	if len(changed) > 4 {
		changed = append(changed[:3], strconv.Itoa(len(changed)-3)+" more")
	}
	return assignment.CacheFound{Why: strings.Join(changed, ", ") + " since " + before.From}, nil
}

// cachesRefuse says why a build is not admitted to the caches of its project; "" when it is.
func (s *Service) cachesRefuse(ctx context.Context, db *database.DB, build uuid.UUID) (string, error) {
	admits, pipeline, branch, tag, err := db.CacheAdmits(ctx, build)
	why := admits.Refuses(pipeline, branch, tag)
	if why != "" {
		why = "the project's cache " + why
	}
	return why, err
}

// saveCaches keeps what a passed stage run of a trusted ref has saved. What does not belong there is left out.
func (s *Service) saveCaches(ctx context.Context, tx *database.DB, b database.Build, e assignment.Event) error {
	if len(e.Caches) == 0 || !b.Trusted {
		return nil
	}
	if why, err := s.cachesRefuse(ctx, tx, b.ID); err != nil || why != "" {
		return err
	}
	for _, saved := range e.Caches {
		of := b.Plan.Runs[e.Run].Stage.Cache
		named := slices.ContainsFunc(of, func(c language.Cache) bool { return slices.Equal(c.Dirs, saved.Basis.Dirs) })
		mine, err := tx.Readable(ctx, []string{string(saved.Digest)}, "build "+b.ID.String(), nil)
		if err != nil {
			return err
		}
		size, here := s.blobs.Has(saved.Digest)
		if !named || len(mine) == 0 || !here || size != saved.Size {
			s.Log.Warn("a cache was not kept: its stage does not name it, or its bytes did not arrive", "build", ref(b), "run", e.Run)
			continue
		}
		c := database.Cache{ID: newID(), Key: saved.Basis.Key(), Basis: saved.Basis, Digest: saved.Digest, Size: saved.Size}
		if _, err := tx.AddCache(ctx, b.Project, c, b.ID, e.Run); err != nil {
			return err
		}
	}
	return tx.EvictCaches(ctx, b.Project)
}

// Caches lists what a project's caches hold, the last used first.
func (s *Service) Caches(ctx context.Context, a Actor, project string) (view.Caches, error) {
	p, err := s.project(ctx, a, project, Read)
	if err != nil {
		return view.Caches{}, err
	}
	list, err := s.DB.Caches(ctx, p.ID)
	out := view.Caches{Quota: p.CacheBytes, Days: p.CacheDays, Admits: orEmptyAdmits(p.CacheAdmits), List: mapped(list, func(c database.Cache) view.Cache {
		return view.Cache{ID: c.ID.String(), Dirs: c.Basis.Dirs, By: orEmptyMap(c.Basis.By), System: c.Basis.System, Size: c.Size, From: c.From, Uses: c.Uses, MadeAt: c.MadeAt, UsedAt: c.UsedAt}
	})}
	for _, c := range out.List {
		out.Size += c.Size
	}
	return out, err
}

func orEmptyMap(m map[string]artifact.Digest) map[string]artifact.Digest {
	if m == nil {
		return map[string]artifact.Digest{}
	}
	return m
}

// RemoveCache removes one of a project's caches; builds save it anew.
func (s *Service) RemoveCache(ctx context.Context, a Actor, project, id string) error {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return err
	}
	key, err := uuid.Parse(id)
	if err != nil {
		return fault.Missing("no cache %q", id)
	}
	if ok, err := s.DB.RemoveCache(ctx, p.ID, key); err != nil || !ok {
		if err == nil {
			err = fault.Missing("project %s has no cache %s", project, id).Hint("oskeld cache list --project %s", project)
		}
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "cache removed", "project "+project, map[string]string{"cache": id})
}

// SetCaches sets a project's quota of caches, in bytes, after how many days unused ones go, and which
// pipelines and refs they admit.
func (s *Service) SetCaches(ctx context.Context, a Actor, project string, bytes int64, days int, admits admit.List) error {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return err
	}
	if err := s.checkAdmits(ctx, admits); err != nil {
		return err
	}
	if err := s.DB.SetCaches(ctx, p.ID, bytes, days, admits); err != nil {
		return err
	}
	if err := s.DB.EvictCaches(ctx, p.ID); err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "caches set", "project "+project, map[string]string{"bytes": strconv.FormatInt(bytes, 10), "days": strconv.Itoa(days), "admits": admits.String()})
}

// removeGone removes the bytes of caches that are gone, once nothing refers to them and nobody holds them.
func (s *Service) removeGone(ctx context.Context) {
	list, err := s.DB.GoneBlobs(ctx)
	if err != nil {
		return
	}
	for _, d := range list {
		if err := s.DB.RemoveBlob(ctx, d, func() error { return s.blobs.Remove(d) }); err != nil && ctx.Err() == nil {
			s.Log.Warn("the bytes of a cache could not be removed", "digest", d, "error", err)
		}
	}
}

// goneEvery is how often bytes to which nothing refers are looked at.
const goneEvery = 10 * time.Minute
