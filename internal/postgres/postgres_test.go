package postgres

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
)

// A cluster is made once, survives kill -9, and starts again on the same port with its data.
func TestStartKillRestart(t *testing.T) {
	dir, err := os.MkdirTemp("", "oskeld-pg-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	s, err := Start(ctx, Options{Dir: filepath.Join(dir, "data")})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Stop() }()
	run := func(sql string) (n int) {
		t.Helper()
		c, err := pgx.Connect(ctx, s.URL())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close(context.Background())
		if err := c.QueryRow(ctx, sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	run("with x as (select 1 as n) select n from x")
	c, err := pgx.Connect(ctx, s.URL())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(ctx, "create table hive (n int); insert into hive values (3)"); err != nil {
		t.Fatal(err)
	}
	url := s.URL()
	if err := syscall.Kill(s.Pid(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-s.Ended()
	if err := s.Restart(ctx); err != nil {
		t.Fatal(err)
	}
	if s.URL() != url {
		t.Error("it came back at another address")
	}
	if n := run("select n from hive"); n != 3 {
		t.Errorf("%d hives after the kill", n)
	}
	s.Stop()
	again, err := Start(ctx, Options{Dir: filepath.Join(dir, "data")})
	if err != nil {
		t.Fatal(err)
	}
	s = again
	if n := run("select n from hive"); n != 3 {
		t.Errorf("%d hives after a stop", n)
	}
}

func TestLeftoverDirectory(t *testing.T) {
	dir, err := os.MkdirTemp("", "oskeld-pg-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	_ = os.Chmod(dir, 0o755)
	data := filepath.Join(dir, "data")
	if err := os.MkdirAll(filepath.Join(data, "something"), 0o755); err != nil {
		t.Fatal(err)
	}
	if s, err := Start(t.Context(), Options{Dir: data}); err == nil {
		s.Stop()
		t.Error("a directory that is no database was taken")
	}
}
