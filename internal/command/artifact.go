package command

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) list() *cobra.Command {
	return &cobra.Command{Use: "list STORE", Short: "List what a store holds, newest first", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodGet, "/api/v1/stores/"+args[0]+"/artifacts", nil, func(l client.List[view.Artifact]) {
			printList(c, l.List, "nothing in it yet", []string{"artifact", "state", "marks", ">files", ">size", "made by", "from", "when"}, func(t *table, a view.Artifact) {
				t.row(cell{a.Ref(), strong}, a.State, strings.Join(a.Marks, " "), a.Files, size(a.Size), firstOf(a.Build, a.By), firstOf(a.Tag, a.Branch), ago(a.CreatedAt))
			})
		})
	}}
}

func (c *cli) showArtifact(cmd *cobra.Command, text string) error {
	ref, err := artifact.ParseRef(text)
	if err != nil {
		return err
	}
	return call(c, cmd, http.MethodGet, client.ArtifactPath(ref.String()), nil, func(a view.ArtifactDetail) {
		fmt.Fprintf(c.out, "%s  %s", c.paint(a.Ref(), strong), a.State)
		for _, m := range a.Marks {
			fmt.Fprintf(c.out, "  [%s]", m)
		}
		fmt.Fprintf(c.out, "\n  content %s, %s, %s\n", a.Content, count(a.Files, "file"), size(a.Size))
		if a.Build != "" {
			fmt.Fprintf(c.out, "  made by build %s from %s at %s\n", a.Build, firstOf(a.Tag, a.Branch), short(a.Commit))
		} else {
			fmt.Fprintf(c.out, "  delivered by %s\n", a.By)
		}
		if a.Admitted != nil {
			fmt.Fprintf(c.out, "  promoted from %s by %s, %s\n", a.Admitted.From, a.Admitted.By, ago(a.Admitted.CreatedAt))
			c.sayVerdicts(*a.Admitted, "    ")
		}
		t := c.table("file", ">size", "sha256")
		for _, f := range a.Contents {
			t.row(f.Path, size(f.Size), string(f.Digest))
		}
		t.print()
		fmt.Fprintf(c.out, "\nfetch it: oskeld fetch %s\n", a.Ref())
	})
}

func (c *cli) fetch() *cobra.Command {
	var into string
	cmd := &cobra.Command{Use: "fetch STORE/NAME@VERSION[#FILE]", Short: "Get an artifact's files; each is checked against its digest", Args: cobra.ExactArgs(1),
		Long:    "Get an artifact's files by version, by a range such as ^1.3 (the highest that fits), or by a mark.",
		Example: "  oskeld fetch intake/hivebook@1.4.0 --into out\n  oskeld fetch 'intake/nectar@^1.3' --into lib\n  oskeld fetch shelf/hivebook:stable#hivebook-1.4.0-linux-amd64.zip"}
	cmd.Flags().StringVar(&into, "into", ".", "directory to put the files in")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		a, files, err := cl.Wanted(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if err := os.MkdirAll(into, 0o755); err != nil {
			return err
		}
		for _, f := range files {
			if err := cl.Fetch(cmd.Context(), a, f, into, c.progress); err != nil {
				return err
			}
		}
		if c.json {
			return c.printJSON(files)
		}
		for _, f := range files {
			fmt.Fprintf(c.out, "%s  %s  %s\n", filepath.Join(into, f.Path), size(f.Size), f.Digest)
		}
		return nil
	}
	return cmd
}

// progress is a bar for one file.
func (c *cli) progress(f artifact.File) client.Progress {
	return c.bar(f.Size, filepath.Base(f.Path))
}

// bar shows rate and time left of a transfer, when a person watches.
func (c *cli) bar(size int64, what string) *progressbar.ProgressBar {
	if !c.terminal() {
		return progressbar.DefaultBytesSilent(size)
	}
	return progressbar.NewOptions64(size, progressbar.OptionSetDescription(what), progressbar.OptionSetWriter(c.err), progressbar.OptionShowBytes(true),
		progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionSetPredictTime(true))
}

func (c *cli) deliver() *cobra.Command {
	var dryRun bool
	cmd := &cobra.Command{Use: "deliver STORE/NAME@VERSION FILE...", Short: "Put files into a store as one artifact", Args: cobra.MinimumNArgs(2)}
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "hash, and say what would be sent")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ref, err := artifact.ParseRef(args[0])
		if err != nil {
			return err
		}
		if ref.Version == "" || ref.File != "" {
			return fault.Invalid("%q names no version", args[0]).Hint("write STORE/NAME@VERSION")
		}
		cl, err := c.client()
		if err != nil {
			return err
		}
		var files []artifact.File
		for _, path := range args[1:] {
			f, err := c.sendOne(cmd.Context(), cl, path, dryRun)
			if err != nil {
				return err
			}
			files = append(files, f)
		}
		if _, err := artifact.NewContent(files); err != nil {
			return err
		}
		if dryRun {
			fmt.Fprintf(c.out, "would admit %s to %s\n", count(len(files), "file"), ref)
			return nil
		}
		in := map[string]any{"store": ref.Store, "name": ref.Name, "version": ref.Version, "files": files}
		return call(c, cmd, http.MethodPost, "/api/v1/deliveries", in, func(a view.Artifact) {
			fmt.Fprintf(c.out, "%s is sealed: %s, %s\n", a.Ref(), count(a.Files, "file"), size(a.Size))
		})
	}
	return cmd
}

// sendOne makes a file's bytes known to the service; dry, it only says whether they would be sent.
func (c *cli) sendOne(ctx context.Context, cl *client.Client, path string, dry bool) (artifact.File, error) {
	if !dry {
		info, err := os.Stat(path)
		if err != nil {
			return artifact.File{}, fault.Missing("%v", err)
		}
		bar := c.bar(info.Size(), filepath.Base(path))
		defer bar.Finish()
		return cl.Send(ctx, path, func(n int64) { _ = bar.Set64(n) })
	}
	f, err := describe(path)
	if err != nil {
		return f, err
	}
	lacking, err := cl.Lacking(ctx, []artifact.Digest{f.Digest})
	if lacking[f.Digest] {
		fmt.Fprintf(c.out, "would send %s, %s\n", f.Path, size(f.Size))
	}
	return f, err
}

// describe hashes a file on disk without holding it in memory.
func describe(path string) (artifact.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return artifact.File{}, fault.Missing("%v", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return artifact.File{}, err
	}
	if !info.Mode().IsRegular() {
		return artifact.File{}, fault.Invalid("%s is not a file", path).Hint("name the files one by one")
	}
	sum := sha256.New()
	n, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{f}, make([]byte, 256<<10))
	return artifact.File{Path: filepath.Base(path), Size: n, Digest: artifact.Digest(hex.EncodeToString(sum.Sum(nil))), Executable: info.Mode()&0o111 != 0}, err
}

func (c *cli) promote() *cobra.Command {
	var to, mark, noteFile string
	var dryRun bool
	cmd := &cobra.Command{Use: "promote STORE/NAME@VERSION --to STORE", Short: "Admit the same bytes to a higher store, when its rules are met", Args: cobra.ExactArgs(1),
		Example: "  oskeld promote intake/hivebook@1.4.0 --to proving --mark beta"}
	cmd.Flags().StringVar(&to, "to", "", "the store that is to admit it")
	cmd.Flags().StringVar(&mark, "mark", "", "a mark to point at it there")
	cmd.Flags().StringVar(&noteFile, "note-file", "", "a file with release notes")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "judge the rules and change nothing")
	_ = cmd.MarkFlagRequired("to")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		note := ""
		if noteFile != "" {
			text, err := os.ReadFile(noteFile)
			if err != nil {
				return fault.Missing("the note cannot be read: %v", err)
			}
			note = string(text)
		}
		in := map[string]any{"from": args[0], "to": to, "mark": mark, "note": note, "dry_run": dryRun}
		var answer view.Promotion
		err := call(c, cmd, http.MethodPost, "/api/v1/promotions", in, func(p view.Promotion) {
			answer = p
			c.sayVerdicts(p, "  ")
			switch {
			case p.Accepted && dryRun:
				fmt.Fprintf(c.out, "%s would be admitted to %s; the same bytes, nothing is copied\n", p.From, p.To)
			case p.Accepted:
				fmt.Fprintf(c.out, "%s is in %s now; the same bytes, nothing was copied\n", p.From, p.To)
			}
		})
		if err == nil && !c.json && !answer.Accepted {
			return fault.Refused("%s is not admitted to %s: %s", answer.From, answer.To, answer.Cause)
		}
		return err
	}
	return cmd
}

func (c *cli) sayVerdicts(p view.Promotion, indent string) {
	for _, v := range p.Verdicts {
		mark, colour := "◆", green
		if !v.Met {
			mark, colour = "⬗", red
		}
		fmt.Fprintf(c.out, "%s%s %s  %s\n", indent, c.paint(mark, colour), v.Say, c.paint(v.Seen, faint))
	}
}
