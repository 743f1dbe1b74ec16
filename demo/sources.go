// Package demo holds the demo's scenario: its sources, made as real git repositories, its stores,
// and what happened there. Everything in it is made up.
package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

//go:embed all:sources
var sources embed.FS

// Commit is one commit of a source: the files of a directory laid over those before it.
type Commit struct {
	Source  string
	Dir     string // below sources/SOURCE
	Author  string
	At      string // RFC 3339
	Subject string
	Tag     string // given when its build is first asked for
}

// Commits are the history of the sources, oldest first.
var Commits = []Commit{
	{"nectar", "1-forage-days", "Ida Roan", "2026-09-07T08:12:00Z", "Count forage days from weather", "v1.0.0"},
	{"hivebook", "1-hives", "Per Voss", "2026-09-09T09:40:00Z", "List the hives on the heath", "v1.3.2"},
	{"nectar", "2-frost-once", "Per Voss", "2026-09-14T10:03:00Z", "A night of frost costs a day", ""},
	{"nectar", "3-frost-fixed", "Ida Roan", "2026-09-14T13:27:00Z", "Take the frost from the night before", "v1.1.0"},
	{"hivebook", "2-brood-frames", "Ida Roan", "2026-09-21T07:55:00Z", "Count brood frames per box", ""},
	{"hivebook", "3-outlook", "Nell Thorpe", "2026-09-23T11:18:00Z", "Show how many forage days are left", ""},
	{"hivebook", "4-season-start", "Nell Thorpe", "2026-09-24T06:49:00Z", "Begin the season on 1 March", "v1.4.0"},
	{"bloom-calendar", "1-weeks", "Nell Thorpe", "2026-09-28T08:30:00Z", "Show what blooms by week", "v1.0.0"},
	{"bloom-calendar", "2-clover", "Ida Roan", "2026-10-01T07:20:00Z", "Clover closes the gap in June", ""},
	{"hive-scale", "1-weigh", "Per Voss", "2026-10-05T10:11:00Z", "Weigh a hive and notice swarms", "v0.9.0"},
	{"hive-scale", "2-history", "Per Voss", "2026-10-07T15:42:00Z", "Keep a year of readings", ""},
	{"hive-scale", "3-shorter", "Ida Roan", "2026-10-08T08:05:00Z", "Keep a week of readings, the service has the year", ""},
	{"hive-scale", "4-parts", "Per Voss", "2026-10-19T16:20:00Z", "Name the parts of the scale", ""},
	{"hive-scale", "5-rain", "Ida Roan", "2026-10-20T07:45:00Z", "Rain that dries is no swarm", ""},
	{"smoker", "1-warnings", "Ida Roan", "2026-10-12T09:00:00Z", "Warn when a swarm leaves", "v0.1.0"},
	{"smoker", "2-season", "Per Voss", "2026-10-15T12:30:00Z", "Weigh a whole season against the warnings", ""},
}

// Sources are the names of all sources, in the order of their first commits.
func Sources() (names []string) {
	for _, c := range Commits {
		if !slices.Contains(names, c.Source) {
			names = append(names, c.Source)
		}
	}
	return names
}

// Repository is a source on disk that commits are added to one by one.
type Repository struct {
	Name string
	Dir  string
}

// NewRepository makes an empty repository below dir.
func NewRepository(ctx context.Context, dir, name string) (Repository, error) {
	r := Repository{name, filepath.Join(dir, name)}
	if err := os.MkdirAll(r.Dir, 0o755); err != nil {
		return r, err
	}
	return r, r.git(ctx, nil, "init", "-q", "-b", "main")
}

func (r Repository) git(ctx context.Context, env []string, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = r.Dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "LC_ALL=C")
	cmd.Env = append(cmd.Env, env...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s in %s: %w: %s", args[0], r.Dir, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Add lays a commit's files down and commits them, as its author at its time.
func (r Repository) Add(ctx context.Context, c Commit) error {
	from, err := fs.Sub(sources, "sources/"+c.Source+"/"+c.Dir)
	if err != nil {
		return err
	}
	err = fs.WalkDir(from, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := fs.ReadFile(from, name)
		if err != nil {
			return err
		}
		// A go.mod or a .go file would make a module of its own here, so they carry ".txt".
		target := filepath.Join(r.Dir, strings.TrimSuffix(name, ".txt"))
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		return os.WriteFile(target, text, 0o644)
	})
	if err != nil {
		return err
	}
	if err := r.git(ctx, nil, "add", "-A"); err != nil {
		return err
	}
	return r.git(ctx, c.identity(), "commit", "-q", "-m", c.Subject)
}

// Tag tags the newest commit with what it is to be released as.
func (r Repository) Tag(ctx context.Context, c Commit) error {
	return r.git(ctx, c.identity(), "tag", c.Tag)
}

// identity makes git write a commit as its author's, at its time.
func (c Commit) identity() []string {
	email := strings.ToLower(strings.ReplaceAll(c.Author, " ", ".")) + "@heath.example"
	return []string{"GIT_AUTHOR_NAME=" + c.Author, "GIT_AUTHOR_EMAIL=" + email, "GIT_AUTHOR_DATE=" + c.At,
		"GIT_COMMITTER_NAME=" + c.Author, "GIT_COMMITTER_EMAIL=" + email, "GIT_COMMITTER_DATE=" + c.At}
}
