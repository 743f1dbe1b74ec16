package git

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/fault"
)

// source makes a repository: main with two commits, tag v1.0.0 on the first, branch side.
func source(t *testing.T) (dir string, run func(args ...string) string) {
	t.Helper()
	dir = t.TempDir()
	run = func(args ...string) string {
		t.Helper()
		cmd := exec.Command("git", args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=Ida", "GIT_AUTHOR_EMAIL=i@heath.example", "GIT_COMMITTER_NAME=Ida", "GIT_COMMITTER_EMAIL=i@heath.example")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
		return strings.TrimSpace(string(out))
	}
	run("init", "-q", "-b", "main")
	for i, text := range []string{"one", "two"} {
		if err := os.WriteFile(filepath.Join(dir, "file.txt"), []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		run("add", ".")
		run("commit", "-qm", "Say "+text)
		if i == 0 {
			run("tag", "v1.0.0")
		}
	}
	run("branch", "side/line")
	return dir, run
}

func TestCopy(t *testing.T) {
	ctx := t.Context()
	dir, run := source(t)
	c := CopyAt(filepath.Join(t.TempDir(), "copy"), Remote{URL: dir})
	if err := c.Fetch(ctx); err != nil {
		t.Fatal(err)
	}
	head := run("rev-parse", "main")
	for ref, want := range map[string]At{"main": {head, "main", ""}, "refs/heads/main": {head, "main", ""}, "side/line": {head, "side/line", ""},
		"v1.0.0": {run("rev-parse", "v1.0.0"), "", "v1.0.0"}, head[:8]: {head, "main", ""}} {
		if at, err := c.Resolve(ctx, ref); err != nil || at != want {
			t.Errorf("%s: %+v, %v", ref, at, err)
		}
	}
	for _, bad := range []string{"", "-x", "nowhere", "main~1", "a\nb"} {
		if at, err := c.Resolve(ctx, bad); err == nil {
			t.Errorf("%q resolved to %+v", bad, at)
		}
	}
	if text, err := c.File(ctx, head, "file.txt", 100); err != nil || string(text) != "two\n" {
		t.Errorf("%q %v", text, err)
	}
	if _, err := c.File(ctx, head, "none", 100); !fault.Is(err, fault.KindMissing) {
		t.Error(err)
	}
	if _, err := c.File(ctx, head, "file.txt", 2); !fault.Is(err, fault.KindInvalid) {
		t.Error(err)
	}
	if tags, n, err := c.NearestTags(ctx, head, "v*"); !slices.Equal(tags, []string{"v1.0.0"}) || n != 1 || err != nil {
		t.Error(tags, n, err)
	}
	if tags, n, err := c.NearestTags(ctx, head, "release-*"); tags != nil || n != 2 || err != nil {
		t.Error(tags, n, err)
	}
	changes, err := c.Changes(ctx, run("rev-parse", "v1.0.0"), head, 10)
	if err != nil || len(changes) != 1 || changes[0].Subject != "Say two" || changes[0].Author != "Ida" {
		t.Error(changes, err)
	}
	if paths, err := c.ChangedPaths(ctx, run("rev-parse", "v1.0.0"), head); err != nil || len(paths) != 1 || paths[0] != "file.txt" {
		t.Error(paths, err)
	}
	run("branch", "-D", "side/line")
	run("tag", "-f", "v1.0.0", "main")
	if err := c.Fetch(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Resolve(ctx, "side/line"); err == nil {
		t.Error("a branch that is gone stays in the copy")
	}
	if at, _ := c.Resolve(ctx, "v1.0.0"); at.Commit != head {
		t.Error("a moved tag stays where it was")
	}
}

// What a script does to its checkout harms neither the copy nor another checkout.
func TestCheckoutStandsAlone(t *testing.T) {
	ctx := t.Context()
	dir, run := source(t)
	c := CopyAt(filepath.Join(t.TempDir(), "copy"), Remote{URL: dir})
	if err := c.Fetch(ctx); err != nil {
		t.Fatal(err)
	}
	head := run("rev-parse", "main")
	one, two := filepath.Join(t.TempDir(), "one"), filepath.Join(t.TempDir(), "two")
	if err := c.Checkout(ctx, head, one); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("sh", "-c", "cd "+one+" && git describe --tags && git tag -d v1.0.0 && git update-ref -d refs/remotes/origin/main && rm -rf .git/objects/pack && echo harm > file.txt").CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	if err := c.Checkout(ctx, head, two); err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(filepath.Join(two, "file.txt")); string(text) != "two\n" {
		t.Errorf("%q", text)
	}
	if err := c.Checkout(ctx, strings.Repeat("0", 40), filepath.Join(t.TempDir(), "x")); !fault.Is(err, fault.KindMissing) {
		t.Error(err)
	}
}

func TestLook(t *testing.T) {
	dir, _ := source(t)
	refs, err := Look(t.Context(), Remote{URL: "file://" + dir})
	if err != nil || refs.Default != "main" || len(refs.Branches) != 2 || refs.Tags["v1.0.0"] == "" {
		t.Error(refs, err)
	}
	if _, err := Look(t.Context(), Remote{URL: dir + "/nowhere"}); !fault.Is(err, fault.KindUnavailable) || !strings.Contains(err.Error(), "does not answer") {
		t.Error(err)
	}
}

func TestCheckURL(t *testing.T) {
	for _, good := range []string{"https://git.example/a.git", "ssh://git@git.example/a", "git@git.example:a/b.git", "/srv/git/a", "file:///srv/a"} {
		if err := CheckURL(good); err != nil {
			t.Errorf("%s: %v", good, err)
		}
	}
	for _, bad := range []string{"", "ext::sh -c touch", "-oProxyCommand=x", "https://", "ftp://x/y", "a/b", "https://u:p@git.example/a", "file://x", "https://x/ y"} {
		if CheckURL(bad) == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

// The credential reaches git by its environment, never by its arguments.
func TestCredentialIsNoArgument(t *testing.T) {
	cmd, done, err := Remote{URL: "https://x", Credential: Credential{User: "ida", Password: "s3cret"}}.command(t.Context(), "ls-remote", "https://x")
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	if strings.Contains(strings.Join(cmd.Args, " "), "s3cret") || !strings.Contains(strings.Join(cmd.Env, " "), "s3cret") {
		t.Error(cmd.Args)
	}
	ask := ""
	for _, e := range cmd.Env {
		if v, ok := strings.CutPrefix(e, "GIT_ASKPASS="); ok {
			ask = v
		}
	}
	for prompt, want := range map[string]string{"Username for x": "ida\n", "Password for x": "s3cret\n"} {
		asked := exec.Command(ask, prompt)
		asked.Env = cmd.Env
		if out, err := asked.Output(); err != nil || string(out) != want {
			t.Errorf("%s: %q %v", prompt, out, err)
		}
	}
}

func TestWhatGitSays(t *testing.T) {
	for said, want := range map[string]string{
		"git@x: Permission denied (publickey).\r\nfatal: Could not read from remote repository.\n": "git@x: Permission denied (publickey).",
		"warning: x\nfatal: repository 'y' not found\nmore\n":                                      "repository 'y' not found",
		"error: cannot lock ref\n\nremove the file manually to continue.\n":                        "cannot lock ref",
		"something odd\nat last": "at last",
		"":                       "exit status 1",
	} {
		if got := lastLine(said, errors.New("exit status 1")); got != want {
			t.Errorf("%q: %q", said, got)
		}
	}
	err := unreachable("ssh://x/y", &Error{"git@x: Permission denied (publickey)."})
	if !strings.Contains(err.Error(), "--key-stdin") {
		t.Error(err)
	}
}
