// Package git keeps copies of sources and reads them, by driving the git program.
//
//	refs, err := git.Look(ctx, git.Remote{URL: "https://example.test/hivebook.git"})
//	copy := git.CopyAt(dir, remote)
//	err = copy.Fetch(ctx)
//	at, err := copy.Resolve(ctx, "main")
package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Remote is a repository elsewhere. Credential is empty for an open one.
type Remote struct {
	URL        string     `json:"url"`
	Credential Credential `json:"credential"`
}

// Credential opens a remote: a user with a password or token, or an SSH private key.
type Credential struct {
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	Key      string `json:"key,omitempty"`
}

var scpLike = regexp.MustCompile(`^[A-Za-z0-9._-]+@[A-Za-z0-9.-]+:[^:]`)

// CheckURL refuses what is not the address of a repository, or carries a credential in itself.
func CheckURL(text string) error {
	if scpLike.MatchString(text) {
		return nil
	}
	u, err := url.Parse(text)
	bad := err != nil || strings.HasPrefix(text, "-") || strings.ContainsAny(text, "\x00\n\r ")
	if !bad {
		switch u.Scheme {
		case "https", "http", "ssh", "git":
			bad = u.Host == ""
		case "file":
			bad = !filepath.IsAbs(u.Path)
		case "":
			bad = !filepath.IsAbs(text)
		default:
			bad = true
		}
	}
	if bad {
		return fault.Invalid("%q is not the address of a git repository", text).On("url").
			Hint("write https://HOST/PATH, ssh://HOST/PATH, user@host:path, or the absolute path of a directory")
	}
	if _, has := u.User.Password(); has {
		return fault.Invalid("the address carries a password").On("url").
			Hint("leave it out and give the credential on standard input: --password-stdin")
	}
	return nil
}

// command prepares git with a clean environment and the credential, which never stands among the
// arguments. done removes what was laid down for it.
func (r Remote) command(ctx context.Context, args ...string) (cmd *exec.Cmd, done func(), err error) {
	cmd = exec.CommandContext(ctx, "git", args...)
	cmd.Cancel = func() error { return end(cmd.Process) } // asked first, so that it takes its lock files along
	cmd.WaitDelay = 2 * time.Second
	cmd.Env = append(slices.DeleteFunc(os.Environ(), ofRepository),
		"GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "LC_ALL=C",
		"GIT_ALLOW_PROTOCOL=file:git:http:https:ssh",
		// Copies belong to whoever runs the service, sources of the file kind often do not.
		"GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*")
	done = func() {}
	ssh := "ssh -oBatchMode=yes -oStrictHostKeyChecking=accept-new -oConnectTimeout=10"
	if c := r.Credential; c.Password != "" || c.Key != "" {
		dir, err := os.MkdirTemp("", "oskeld-git-")
		if err != nil {
			return nil, done, err
		}
		done = func() { os.RemoveAll(dir) }
		if c.Key != "" {
			key := filepath.Join(dir, "key")
			if err := os.WriteFile(key, []byte(strings.TrimRight(c.Key, "\r\n")+"\n"), 0o600); err != nil {
				return nil, done, err
			}
			ssh += " -oIdentitiesOnly=yes -i " + key
		}
		ask := filepath.Join(dir, "ask")
		script := "#!/bin/sh\ncase \"$1\" in Username*) printf '%s\\n' \"$OSKELD_GIT_USER\";; *) printf '%s\\n' \"$OSKELD_GIT_PASSWORD\";; esac\n"
		if err := os.WriteFile(ask, []byte(script), 0o700); err != nil {
			return nil, done, err
		}
		user := c.User
		if user == "" {
			user = "token"
		}
		cmd.Env = append(cmd.Env, "GIT_ASKPASS="+ask, "OSKELD_GIT_USER="+user, "OSKELD_GIT_PASSWORD="+c.Password)
	}
	cmd.Env = append(cmd.Env, "GIT_SSH_COMMAND="+ssh)
	return cmd, done, nil
}

// ofRepository tells whether a variable ties git to one repository, as inside its hooks.
func ofRepository(variable string) bool {
	name, _, _ := strings.Cut(variable, "=")
	return slices.Contains([]string{"GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_PREFIX", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR"}, name)
}

func (r Remote) run(ctx context.Context, args ...string) ([]byte, error) {
	cmd, done, err := r.command(ctx, args...)
	defer done()
	if err != nil {
		return nil, err
	}
	return output(cmd)
}

// Error is a git command that failed: its last line, for people.
type Error struct{ Said string }

func (e *Error) Error() string { return "git: " + e.Said }

func output(cmd *exec.Cmd) ([]byte, error) {
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return nil, fault.Unavailable("git is not installed").Hint("apt-get install git")
		}
		return nil, &Error{lastLine(said.String(), err)}
	}
	return out.Bytes(), nil
}

func lastLine(said string, err error) string {
	lines := strings.Split(strings.TrimSpace(said), "\n")
	for _, line := range lines { // what ssh says of itself tells more than git's "could not read"
		if strings.Contains(line, "Permission denied") || strings.Contains(line, "Host key verification failed") {
			return strings.TrimSpace(line)
		}
	}
	for _, prefix := range []string{"fatal: ", "error: "} { // else the first of these says it best
		for _, line := range lines {
			if rest, ok := strings.CutPrefix(line, prefix); ok {
				return rest
			}
		}
	}
	if last := lines[len(lines)-1]; last != "" {
		return last
	}
	return err.Error()
}

// Refs are the branches and tags of a remote with their commits, and its default branch.
type Refs struct {
	Default  string
	Branches map[string]string
	Tags     map[string]string
}

// Look asks a remote what it has, without fetching. Errors are of kind unavailable.
func Look(ctx context.Context, r Remote) (Refs, error) {
	if err := CheckURL(r.URL); err != nil {
		return Refs{}, err
	}
	out, err := r.run(ctx, "ls-remote", "--symref", "--", r.URL)
	if err != nil {
		return Refs{}, unreachable(r.URL, err)
	}
	refs := Refs{Branches: map[string]string{}, Tags: map[string]string{}}
	for line := range strings.Lines(string(out)) {
		hash, name, _ := strings.Cut(strings.TrimSpace(line), "\t")
		if target, ok := strings.CutPrefix(hash, "ref: "); ok {
			if name == "HEAD" {
				refs.Default = strings.TrimPrefix(target, "refs/heads/")
			}
			continue
		}
		if branch, ok := strings.CutPrefix(name, "refs/heads/"); ok {
			refs.Branches[branch] = hash
		} else if tag, ok := strings.CutPrefix(name, "refs/tags/"); ok {
			refs.Tags[strings.TrimSuffix(tag, "^{}")] = hash // the peeled line comes last
		}
	}
	return refs, nil
}

func unreachable(url string, err error) error {
	said := err.Error()
	if e, ok := errors.AsType[*Error](err); ok {
		said = e.Said
	}
	f := fault.Unavailable("the source %s does not answer: %s", url, said).Because(err)
	lower := strings.ToLower(said)
	for _, word := range []string{"authentication", "could not read username", "permission denied", "403", "401"} {
		if strings.Contains(lower, word) {
			return f.Hint("give its credential: oskeld source set NAME --password-stdin, or --key-stdin")
		}
	}
	return f.Hint("check the address, and that this machine reaches it: git ls-remote %s", url)
}

// ErrNoCommit says that a copy does not have a commit.
func noCommit(ref string) error {
	return fault.Missing("no branch, tag or commit %q in the source", ref).On("ref").
		Hint("oskeld source show NAME lists its branches and tags; push it first if it is only on your machine")
}

func notThere(path, commit string) error {
	return fault.Missing("the source has no %s at commit %s", path, fmt.Sprintf("%.7s", commit)).
		Hint("commit it, or name another with oskeld pipeline add --file")
}
