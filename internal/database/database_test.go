package database

import (
	"context"
	"fmt"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/postgres"
)

var server *postgres.Server

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "oskeld-db-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		server, err = postgres.Start(context.Background(), postgres.Options{Dir: dir + "/postgres", Forgetful: true})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	server.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}

func fresh(t *testing.T, name string) *DB {
	t.Helper()
	c, err := pgx.Connect(t.Context(), server.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(t.Context(), "create database "+name); err != nil {
		t.Fatal(err)
	}
	db, err := Open(t.Context(), server.URLOf(name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	return db
}

// Six services that start together migrate once, and none waits for ever.
func TestMigrateTogether(t *testing.T) {
	first := fresh(t, "together")
	if ok, err := first.Fresh(t.Context()); ok || err == nil {
		t.Error("an empty database counts as migrated")
	}
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			db, err := Open(t.Context(), server.URLOf("together"))
			if err != nil {
				t.Error(err)
				return
			}
			defer db.Close()
			if err := db.Migrate(t.Context()); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if ok, err := first.Fresh(t.Context()); !ok || err != nil {
		t.Error(ok, err)
	}
}

func TestJournalIsAppendOnly(t *testing.T) {
	db := fresh(t, "journal")
	ctx := t.Context()
	if err := db.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	if err := db.AddRecord(ctx, "ida", "did", "thing", nil); err != nil {
		t.Fatal(err)
	}
	for _, sql := range []string{"update record set who = 'per'", "delete from record", "truncate record"} {
		if err := db.exec(ctx, sql); err == nil {
			t.Errorf("%s went through", sql)
		}
	}
}

func TestJoinTokenOnce(t *testing.T) {
	db := fresh(t, "joining")
	ctx := t.Context()
	if err := db.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	if err := db.AddJoinToken(ctx, []byte("d"), "ida", time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := db.AddJoinToken(ctx, []byte("old"), "ida", time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := db.UseJoinToken(ctx, []byte("d")); err != nil {
		t.Error(err)
	}
	for _, spent := range []string{"d", "old", "never"} {
		if err := db.UseJoinToken(ctx, []byte(spent)); !fault.Is(err, fault.KindUnknown) {
			t.Errorf("%s: %v", spent, err)
		}
	}
	a := Agent{ID: uuid.New(), Name: "barrow", Facts: facts.Facts{"os": "linux"}, Places: 1}
	if _, err := db.AddAgent(ctx, a, []byte("x")); err != nil {
		t.Fatal(err)
	}
	if _, err := db.AddAgent(ctx, Agent{ID: uuid.New(), Name: "barrow"}, []byte("y")); !fault.Is(err, fault.KindConflict) {
		t.Errorf("a second agent of that name: %v", err)
	}
}

// News told in one process arrives in another, also over a broken connection.
func TestListen(t *testing.T) {
	db := fresh(t, "news")
	ctx := t.Context()
	heard := make(chan string, 100)
	go db.Listen(ctx, func(p string) { heard <- p })
	if p := <-heard; p != "" {
		t.Errorf("first %q", p)
	}
	if err := db.Notify(ctx, []string{"work"}); err != nil {
		t.Fatal(err)
	}
	if p := <-heard; p != "work" {
		t.Errorf("heard %q", p)
	}
	if err := db.exec(ctx, "select pg_terminate_backend(pid) from pg_stat_activity where query like 'listen%' and datname = 'news'"); err != nil {
		t.Fatal(err)
	}
	if p := <-heard; p != "" {
		t.Errorf("after a break %q: something may have been missed", p)
	}
}
