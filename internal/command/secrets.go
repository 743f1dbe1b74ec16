package command

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/postgres"
	"oskeld.dev/oskeld/internal/service"
)

func (c *cli) secret() *cobra.Command {
	var project, pipeline string
	with := func(cmd *cobra.Command) *cobra.Command {
		cmd.Flags().StringVar(&project, "project", "", "the project it belongs to")
		_ = cmd.MarkFlagRequired("project")
		return cmd
	}
	of := func(cmd *cobra.Command) *cobra.Command {
		cmd.Flags().StringVar(&pipeline, "pipeline", "", "the pipeline whose own it is; it sees this one instead of the project's")
		return with(cmd)
	}
	var admits func() admit.List
	set := of(&cobra.Command{Use: "set NAME", Short: "Keep a secret; its value comes from standard input", Args: cobra.ExactArgs(1),
		Example: "  oskeld secret set SIGNING_KEY --project heath < key.pem\n  oskeld secret set SIGNING_KEY --project heath --admit-pipeline hivebook --admit-ref 'v*' < key.pem",
		RunE: func(cmd *cobra.Command, args []string) error {
			value, err := c.secretInput("value")
			if err != nil {
				return err
			}
			who := admits()
			in := map[string]any{"value": value, "pipeline": pipeline, "admit_pipelines": who.Pipelines, "admit_refs": who.Refs}
			return call(c, cmd, http.MethodPut, "/api/v1/projects/"+project+"/secrets/"+args[0], in, func(any) {
				fmt.Fprintf(c.out, "secret %s is kept, sealed; stages see it that name it under `secrets`\n", args[0])
			})
		}})
	_, admits = admitFlags(set, "whose builds may have it (all of the project that the source trusts)")
	remove := of(&cobra.Command{Use: "remove NAME", Short: "Forget a secret", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodDelete, "/api/v1/projects/"+project+"/secrets/"+args[0]+"?pipeline="+url.QueryEscape(pipeline), nil, func(any) {
			fmt.Fprintf(c.out, "secret %s is forgotten\n", args[0])
		})
	}})
	list := with(&cobra.Command{Use: "list", Short: "List the secrets of a project and of its pipelines, without values", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return call(c, cmd, http.MethodGet, "/api/v1/projects/"+project+"/secrets", nil, func(l client.List[view.Secret]) {
			printList(c, l.List, "no secret yet: oskeld secret set NAME --project "+project, []string{"secret", "of", "admits", ">revision", "set by", "when"},
				func(t *table, s view.Secret) {
					of := "the project"
					if s.Pipeline != "" {
						of = "pipeline " + s.Pipeline
					}
					admits := admit.List{Pipelines: s.AdmitsPipelines, Refs: s.AdmitsRefs}
					t.row(cell{s.Name, strong}, of, firstOf(admitted(admits), "all trusted refs"), s.Revision, s.SetBy, ago(s.SetAt))
				})
		})
	}})
	return group("secret", "What builds must know and nobody may read", set, remove, list)
}

// rekey changes the key under which a service keeps its secrets. The new key stands beside the old one
// until all is sealed with it, so that a cut leaves either the one or the other to be used.
func (c *cli) rekey() *cobra.Command {
	var o serveOptions
	cmd := &cobra.Command{Use: "rekey", Short: "Change the key that seals secrets; no service may run meanwhile", Args: cobra.NoArgs,
		Long: "Makes a new key, seals all secrets, credentials and the signing key with it, and puts it in the old one's\nplace. Stop every service first, and give each the new key file before it starts again. Called again after a\ncut, it brings to its end what was begun."}
	cmd.Flags().StringVar(&o.dir, "dir", firstOf(os.Getenv("OSKELD_DIR"), "/var/lib/oskeld"), "directory of the service (OSKELD_DIR)")
	cmd.Flags().StringVar(&o.key, "key", os.Getenv("OSKELD_KEY_FILE"), "file of the key (OSKELD_KEY_FILE; DIR/key)")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		o.database = os.Getenv("OSKELD_DATABASE")
		n, err := changeKey(cmd.Context(), o, slog.New(slog.NewTextHandler(c.err, nil)))
		if err == nil {
			fmt.Fprintf(c.out, "%d values are sealed with the new key; start every service with it\n", n)
		}
		return err
	}
	return cmd
}

func changeKey(ctx context.Context, o serveOptions, log *slog.Logger) (int, error) {
	path := firstOf(o.key, filepath.Join(o.dir, "key"))
	if _, err := os.Stat(path); err != nil {
		return 0, fault.Missing("there is no key at %s", path).Hint("name the service's directory with --dir, or its key with --key")
	}
	old, err := loadKey(path)
	if err != nil {
		return 0, err
	}
	url := o.database
	if url == "" {
		server, err := postgres.Start(ctx, postgres.Options{Dir: filepath.Join(o.dir, "postgres")})
		if err != nil {
			return 0, err
		}
		defer server.Stop()
		url = server.URL()
	}
	db, err := database.OpenAlone(ctx, url)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	if err := db.Migrate(ctx); err != nil {
		return 0, err
	}
	beside := path + ".next"
	_, statErr := os.Stat(beside)
	next, err := loadKey(beside) // made unless an earlier call left one
	if err != nil {
		return 0, err
	}
	n, err := service.Rekey(ctx, db, old, next)
	if fault.Is(err, fault.KindRefused) && !errors.Is(statErr, fs.ErrNotExist) { // the earlier call got so far
		n, err = service.Rekey(ctx, db, next, next)
	}
	if err != nil {
		return 0, err
	}
	log.Info("the new key takes the old one's place", "key", path)
	return n, os.Rename(beside, path)
}

// loadKey reads a key file, 64 hexadecimal digits, or makes it.
func loadKey(path string) (key [32]byte, err error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := rand.Read(key[:]); err != nil {
			return key, err
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return key, fault.Unavailable("the key file cannot be made: %v", err)
		}
		_, err = fmt.Fprintf(f, "%x\n", key)
		return key, errors.Join(err, f.Sync(), f.Close())
	}
	if err != nil {
		return key, err
	}
	var bytes []byte
	if _, err := fmt.Sscanf(strings.TrimSpace(string(text)), "%x", &bytes); err != nil || len(bytes) != 32 {
		return key, fault.Invalid("%s is not a key file", path).Hint("it holds 64 hexadecimal digits; openssl rand -hex 32 makes one")
	}
	return [32]byte(bytes), nil
}
