package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
)

// pipeline makes a source of one file, the pipeline's, and binds it.
func (b *bench) pipeline(ctx context.Context, name, stages string) error {
	source := filepath.Join(b.dir, name)
	if err := os.MkdirAll(source, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(source, "oskeld.toml"), fmt.Appendf(nil, "pipeline = %q\n%s", name, stages), 0o644); err != nil {
		return err
	}
	cmd := exec.Command("sh", "-euc", "git init -q -b main && git add -A && git -c user.name=Ida -c user.email=ida@heath.example commit -qm Begin")
	cmd.Dir = source
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if err := b.client.Call(ctx, http.MethodPost, "/api/v1/sources", map[string]any{"project": "heath", "name": name, "url": source, "poll_s": 0}, nil); err != nil {
		return err
	}
	return b.client.Call(ctx, http.MethodPost, "/api/v1/pipelines", map[string]string{"name": name, "source": name}, nil)
}

// writeFiles writes 10,000 files into a hundred directories.
func writeFiles(root string) error {
	for i := range 100 {
		dir := filepath.Join(root, fmt.Sprintf("d%02d", i))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		for j := range 100 {
			if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("f%02d.txt", j)), fmt.Appendf(nil, "file %d of directory %d\n", j, i), 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}
