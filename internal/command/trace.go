package command

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/provenance"
	"oskeld.dev/oskeld/internal/core/view"
)

func (c *cli) trace() *cobra.Command {
	return &cobra.Command{Use: "trace FILE | STORE/NAME@VERSION | sha256:…", Short: "What a file is, who made it from what, where it lies, who uses it", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			digest, err := c.digestOf(cmd, args[0])
			if err != nil {
				return err
			}
			return call(c, cmd, http.MethodGet, "/api/v1/trace/"+string(digest), nil, c.sayTrace)
		}}
}

// digestOf takes a file on disk first, then a digest, then a reference.
func (c *cli) digestOf(cmd *cobra.Command, text string) (artifact.Digest, error) {
	if info, err := os.Stat(text); err == nil && info.Mode().IsRegular() {
		f, err := describe(text)
		return f.Digest, err
	}
	if d, err := artifact.ParseDigest(text); err == nil {
		return d, nil
	}
	ref, err := artifact.ParseRef(text)
	if err != nil {
		return "", fault.Missing("%q is neither a file here, nor a digest, nor an artifact", text).Hint("write a path, sha256:…, or STORE/NAME@VERSION")
	}
	cl, err := c.client()
	if err != nil {
		return "", err
	}
	var a view.ArtifactDetail
	if err := cl.Call(cmd.Context(), http.MethodGet, client.ArtifactPath(ref.String()), nil, &a); err != nil {
		return "", err
	}
	for _, f := range a.Contents {
		if f.Path == ref.File {
			return f.Digest, nil
		}
	}
	if ref.File != "" {
		return "", fault.Missing("%s has no file %q", a.Ref(), ref.File)
	}
	return a.Content, nil
}

func (c *cli) sayTrace(t view.Trace) {
	fmt.Fprintf(c.out, "%s\n\nlies in\n", t.Digest)
	for _, p := range t.Places {
		where := p.Ref()
		if p.Path != "" {
			where += "#" + p.Path
		}
		fmt.Fprintf(c.out, "  %s", c.paint(where, strong))
		for _, m := range p.Marks {
			fmt.Fprintf(c.out, " [%s]", m)
		}
		if p.Admitted != nil {
			fmt.Fprintf(c.out, "  promoted by %s, %s", p.Admitted.By, ago(p.Admitted.CreatedAt))
		}
		fmt.Fprintln(c.out)
		if p.Admitted != nil {
			c.sayVerdicts(*p.Admitted, "      ")
		}
	}
	b := t.Build
	if b == nil {
		fmt.Fprintf(c.out, "\ndelivered by %s; nobody built it here, so nothing is known of how it was made\n", t.Places[0].By)
	} else {
		fmt.Fprintf(c.out, "\nmade by %s %s, %s\n", c.paint(buildRef(b.Build), strong), b.Version, ago(b.CreatedAt))
		fmt.Fprintf(c.out, "  from %s at %s: %s\n  started by %s\n", firstOf(b.Tag, b.Branch, b.Ref), b.Commit, plainText(b.Subject), b.StartedBy)
		for _, r := range b.Runs {
			text := string(r.State)
			if r.Tests != nil {
				text += fmt.Sprintf(", %d tests, %d failed", r.Tests.Total, r.Tests.Failed)
			}
			fmt.Fprintf(c.out, "  %-12s %s on %s\n", r.Name, text, firstOf(r.Agent, "no agent"))
		}
		for _, ch := range b.Changes {
			fmt.Fprintf(c.out, "  change %s %s  %s\n", short(ch.Commit), plainText(ch.Subject), c.paint(plainText(ch.Author), faint))
		}
		for _, in := range b.Inputs {
			fmt.Fprintf(c.out, "  took in %s/%s@%s#%s\n", in.Store, in.Name, in.Version, in.Path)
		}
	}
	if len(t.Uses) > 0 {
		fmt.Fprintln(c.out, "\ntaken in by")
		for _, u := range t.Uses {
			fmt.Fprintf(c.out, "  %s %s, %s\n", u.Build, u.Version, ago(u.At))
		}
	}
}

func (c *cli) verify() *cobra.Command {
	var statement, key, save string
	cmd := &cobra.Command{Use: "verify FILE", Short: "Check a file against its signed statement; works without the service", Args: cobra.ExactArgs(1),
		Long:    "With --statement and --key, nothing but those two files is needed. Without, the statement\nis asked of the service by the file's digest, and --save keeps it for later.",
		Example: "  oskeld status --key > oskeld.pem\n  oskeld verify hivebook.zip --save hivebook.zip.statement.json --key oskeld.pem\n  oskeld verify hivebook.zip --statement hivebook.zip.statement.json --key oskeld.pem"}
	cmd.Flags().StringVar(&statement, "statement", "", "the DSSE envelope (FILE.statement.json, if it is there)")
	cmd.Flags().StringVar(&key, "key", "", "the service's public key as PEM")
	cmd.Flags().StringVar(&save, "save", "", "keep the statement that the service gave in a file")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		f, err := describe(args[0])
		if err != nil {
			return err
		}
		if statement == "" {
			if _, err := os.Stat(args[0] + ".statement.json"); err == nil {
				statement = args[0] + ".statement.json"
			}
		}
		var envelopes [][]byte
		if statement != "" {
			text, err := os.ReadFile(statement)
			if err != nil {
				return fault.Missing("the statement cannot be read: %v", err)
			}
			envelopes = [][]byte{text}
		} else if envelopes, err = c.askStatements(cmd, f.Digest); err != nil {
			return err
		}
		pem, err := c.publicKey(cmd, key)
		if err != nil {
			return err
		}
		return c.verifyFile(cmd, f, envelopes, pem, save)
	}
	return cmd
}

func (c *cli) publicKey(cmd *cobra.Command, path string) ([]byte, error) {
	if path != "" {
		text, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fault.Missing("there is no key %s", path).Hint("oskeld status --key > %s", path)
		}
		return text, err
	}
	cl, err := c.client()
	if err != nil {
		return nil, fault.Invalid("without the service, the public key must be given").Hint("--key FILE; oskeld status --key prints it")
	}
	var s view.Status
	err = cl.Call(cmd.Context(), http.MethodGet, "/api/v1/status", nil, &s)
	return []byte(s.PublicKey), err
}

func (c *cli) askStatements(cmd *cobra.Command, digest artifact.Digest) ([][]byte, error) {
	cl, err := c.client()
	if err != nil {
		return nil, err
	}
	var t view.Trace
	if err := cl.Call(cmd.Context(), http.MethodGet, "/api/v1/trace/"+string(digest), nil, &t); err != nil {
		return nil, err
	}
	for _, p := range t.Places {
		list, err := client.Get[json.RawMessage](cmd.Context(), cl, "/api/v1/statements?ref="+url.QueryEscape(p.Ref()))
		if err != nil && !fault.Is(err, fault.KindMissing) {
			return nil, err
		}
		if len(list) > 0 {
			out := make([][]byte, len(list))
			for i, e := range list {
				out[i] = e
			}
			return out, nil
		}
	}
	return nil, fault.Missing("the service has no statement about %s", digest)
}

func (c *cli) verifyFile(cmd *cobra.Command, f artifact.File, envelopes [][]byte, pem []byte, save string) error {
	key, err := provenance.DecodeKey(pem)
	if err != nil {
		return err
	}
	for _, envelope := range envelopes {
		s, err := provenance.Verify(cmd.Context(), envelope, key)
		if err != nil {
			return err
		}
		name, ok := provenance.Covers(s, f.Digest)
		if !ok {
			continue
		}
		p, err := provenance.Predicate(s)
		if err != nil {
			return err
		}
		if save != "" {
			if err := os.WriteFile(save, envelope, 0o644); err != nil {
				return err
			}
		}
		if c.json {
			return c.printJSON(json.RawMessage(envelope))
		}
		fmt.Fprintf(c.out, "%s %s\n  is %s, as signed by key %s\n", c.paint("◆ verified", green), f.Digest, name, provenance.KeyID(key))
		run, def := p.GetRunDetails(), p.GetBuildDefinition()
		fmt.Fprintf(c.out, "  made by build %s on %s, ended %s\n", run.GetMetadata().GetInvocationId(), run.GetBuilder().GetId(), run.GetMetadata().GetFinishedOn().AsTime().Format("2006-01-02 15:04:05Z"))
		for _, in := range def.GetResolvedDependencies() {
			var digests []string
			for algorithm, value := range in.GetDigest() {
				digests = append(digests, algorithm+":"+value)
			}
			fmt.Fprintf(c.out, "  from %s  %s\n", in.GetName(), c.paint(strings.Join(digests, " "), faint))
		}
		return nil
	}
	return fault.Refused("the statement is valid, and is not about this file: %s", f.Digest).Hint("the file was changed after it was built, or the statement belongs to another")
}

func (c *cli) records() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "records [THING]", Short: "Read the journal of who did what, newest first", Args: cobra.MaximumNArgs(1), Example: "  oskeld records hivebook/57"}
	cmd.Flags().IntVar(&most, "most", 30, "how many")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q := url.Values{"most": {strconv.Itoa(most)}}
		if len(args) == 1 {
			q.Set("thing", args[0])
		}
		return call(c, cmd, http.MethodGet, "/api/v1/records?"+q.Encode(), nil, func(l client.List[view.Record]) {
			printList(c, l.List, "no record", []string{"when", "who", "did", "thing", ""}, func(t *table, r view.Record) {
				var details []string
				usual := []string{"ref", "version", "to", "mark", "person", "role", "secret", "secrets", "agent"}
				others := slices.DeleteFunc(slices.Sorted(maps.Keys(r.Details)), func(k string) bool { return slices.Contains(usual, k) })
				for _, k := range append(usual, others...) {
					if v := r.Details[k]; v != "" {
						first, _, _ := strings.Cut(v, "\n")
						details = append(details, k+" "+plainText(first))
					}
				}
				t.row(r.At.Local().Format("2 Jan 15:04:05"), r.Who, cell{r.Did, strong}, r.Thing, strings.Join(details, ", "))
			})
		})
	}
	return cmd
}
