package command

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/version"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/git"
	"oskeld.dev/oskeld/internal/rehearsal"
)

// versionAnswer is what `version` says.
type versionAnswer struct {
	Version    string   `json:"version"`
	Derivation string   `json:"derivation"`
	Commit     string   `json:"commit"`
	Semantic   bool     `json:"semantic"`
	Notes      []string `json:"notes"`
}

func (c *cli) version() *cobra.Command {
	var ref, file string
	var against, offline bool
	cmd := &cobra.Command{Use: "version", Short: "Tell the version that a build would have, and how it comes about", Args: cobra.NoArgs,
		Example: "  oskeld version\n  oskeld version --ref v1.4.0\n  oskeld version --against"}
	cmd.Flags().StringVar(&ref, "ref", "", "a branch, tag or commit to build (what is checked out here)")
	cmd.Flags().StringVar(&file, "file", ".", "the pipeline file, or its directory")
	cmd.Flags().BoolVar(&against, "against", false, "ask the service what its next build would have")
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the origin which tags it has")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		name, text, err := c.readPipeline(file)
		if err != nil {
			return err
		}
		p, found := language.Read(name, text)
		if p == nil {
			c.sayDiagnostics(found)
			return errNotPassed
		}
		var a versionAnswer
		if against {
			a, err = c.versionThere(cmd.Context(), p, ref)
		} else {
			a, err = versionHere(cmd.Context(), p, filepath.Dir(name), ref, offline)
		}
		if err != nil {
			return err
		}
		if c.json {
			return c.printJSON(a)
		}
		fmt.Fprintf(c.out, "%s\n", c.paint(a.Version, strong))
		if c.quiet {
			return nil
		}
		_, why, _ := strings.Cut(a.Derivation, " ")
		fmt.Fprintf(c.out, "  %s, at commit %s\n", why, short(a.Commit))
		for _, n := range a.Notes {
			fmt.Fprintf(c.out, "  %s %s\n", c.paint("note:", ochre), n)
		}
		return nil
	}
	return cmd
}

func (c *cli) versionThere(ctx context.Context, p *language.Pipeline, ref string) (versionAnswer, error) {
	cl, err := c.client()
	if err != nil {
		return versionAnswer{}, err
	}
	var next view.NextVersion
	if err := cl.Call(ctx, http.MethodGet, "/api/v1/pipelines/"+string(p.Name)+"/version?ref="+url.QueryEscape(ref), nil, &next); err != nil {
		return versionAnswer{}, err
	}
	a := versionAnswer{Version: next.Version, Derivation: next.Derivation, Commit: next.Commit, Semantic: next.Semantic, Notes: []string{}}
	a.noteSemantic()
	return a, nil
}

// versionHere settles the version in the working tree. A ref is resolved as the service would.
func versionHere(ctx context.Context, p *language.Pipeline, dir, ref string, offline bool) (versionAnswer, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return versionAnswer{}, err
	}
	here, err := git.Find(ctx, dir)
	if err != nil {
		return versionAnswer{}, err
	}
	facts, err := rehearsal.VersionFacts(ctx, &here, p.Version, here.Root, false)
	if err != nil {
		return versionAnswer{}, err
	}
	a := versionAnswer{Notes: []string{}}
	if ref != "" {
		if facts, err = refFacts(ctx, here, p.Version, ref); err != nil {
			return a, err
		}
	} else if _, tags, err := here.Head(ctx); err == nil {
		if tag, _ := p.Version.Choose(tags); tag != "" {
			a.Notes = append(a.Notes, fmt.Sprintf("tag %s is on this commit: a build started by it has its version, see oskeld version --ref %s", tag, tag))
		}
	}
	v, why, err := p.Version.Settle(facts)
	if err != nil {
		return a, err
	}
	a.Version, a.Derivation, a.Commit, a.Semantic = string(v), why, facts.Commit, version.Semantic(string(v))
	if facts.Here && facts.StartedBy == "" {
		a.Notes = append(a.Notes, "made on the spot: on a service {number} is the build's, and \"here\" is not added")
	}
	if facts.Branch == "" && facts.StartedBy == "" {
		a.Notes = append(a.Notes, "the head is detached, so {branch} is \"detached\"")
	}
	if here.Shallow(ctx) {
		a.Notes = append(a.Notes, "the history here is cut (a shallow clone), so tags may be missing: git fetch --unshallow --tags")
	}
	a.noteSemantic()
	if !offline {
		a.noteOrigin(ctx, here, facts)
	}
	return a, nil
}

// refFacts are the facts of a build that a ref starts.
func refFacts(ctx context.Context, here git.Here, rules version.Rules, ref string) (version.Facts, error) {
	at, err := here.Resolve(ctx, ref)
	if err != nil {
		return version.Facts{}, err
	}
	f := version.Facts{Commit: at.Commit, Branch: at.Branch, Here: true, At: time.Now()}
	if at.Tag != "" && rules.Fits(at.Tag) {
		f.StartedBy = at.Tag
	}
	if rules.File != "" {
		text, err := here.File(ctx, at.Commit, rules.File, 4096)
		if err != nil {
			return f, err
		}
		line, _, _ := strings.Cut(string(text), "\n")
		f.FileText = strings.TrimSpace(line)
	}
	tags, commits, err := here.NearestTags(ctx, at.Commit, rules.Tag)
	f.Nearest, f.Beside = rules.Choose(tags)
	f.Commits = commits
	return f, err
}

func (a *versionAnswer) noteSemantic() {
	if !a.Semantic {
		a.Notes = append(a.Notes, "this is not a semantic version: stores of plain files take it, those of a package format do not")
	}
}

// noteOrigin tells of the tag that counts here and is not where the service would look.
func (a *versionAnswer) noteOrigin(ctx context.Context, here git.Here, f version.Facts) {
	tag := f.Nearest
	if f.StartedBy != "" {
		tag = f.StartedBy
	}
	if tag == "" || !here.Origin() {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	tags, err := here.OriginTags(ctx)
	switch {
	case err != nil:
		a.Notes = append(a.Notes, "the origin does not answer, so whether it has tag "+tag+" is not known")
	case !slices.Contains(tags, tag):
		a.Notes = append(a.Notes, fmt.Sprintf("tag %s is here and not at the origin, so a build there would have another version: git push origin %s", tag, tag))
	}
}

// fileOrHere is the directory in which a command works.
func fileOrHere(dir string) (string, error) {
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return "", fault.Missing("there is no directory %s", dir)
	}
	return filepath.Abs(dir)
}
