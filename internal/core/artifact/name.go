// Package artifact holds what a delivered artifact is: its content and digest, the names and
// versions under which stores admit it, and the references people type.
//
//	ref, err := artifact.ParseRef("intake/hivebook@1.4.0")
//
// Every type here has a parser; a value that exists is valid.
package artifact

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"
	"unicode/utf8"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Name is the name of an artifact, a store, a pipeline, a stage or a project: a lower or upper case
// letter or digit, then letters, digits, ".", "_" and "-"; 1 to 100 bytes; never "..".
type Name string

// NamePattern is the form of a Name, which besides holds no "..".
const NamePattern = `^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`

var nameRule = regexp.MustCompile(NamePattern)

// ParseName checks a name; what says which thing it names, for the error.
func ParseName(what, text string) (Name, error) {
	if !nameRule.MatchString(text) || strings.Contains(text, "..") {
		return "", fault.Invalid("%s %s is not a name", what, quote(text)).On(what).
			Hint(`use letters, digits, "-", "_" and single ".", starting with a letter or digit, at most 100`)
	}
	return Name(text), nil
}

// Version is the version of an artifact: what is fit for a path segment and for every client;
// semantic where the format asks for it. 1 to 128 bytes.
type Version string

var versionRule = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9.+_-]{0,127}$`)

// ParseVersion checks the text of a version.
func ParseVersion(text string) (Version, error) {
	if !versionRule.MatchString(text) || strings.Contains(text, "..") {
		return "", fault.Invalid("%s is not a version", quote(text)).On("version").
			Hint(`use letters, digits, ".", "+", "-" and "_", no slash, at most 128`)
	}
	return Version(text), nil
}

// Digest is a SHA-256 digest in lower-case hexadecimal, 64 characters.
type Digest string

var digestRule = regexp.MustCompile(`^[0-9a-f]{64}$`)

// ParseDigest reads a digest with or without "sha256:" in front.
func ParseDigest(text string) (Digest, error) {
	bare := strings.TrimPrefix(text, "sha256:")
	if !digestRule.MatchString(bare) {
		return "", fault.Invalid("%s is not a SHA-256 digest", quote(text)).On("digest").Hint("give 64 hexadecimal digits")
	}
	return Digest(bare), nil
}

// DigestOf is the digest of bytes in memory.
func DigestOf(b []byte) Digest {
	sum := sha256.Sum256(b)
	return Digest(hex.EncodeToString(sum[:]))
}

// String gives the digest as people see it, "sha256:…".
func (d Digest) String() string { return "sha256:" + string(d) }

// Ref points at an artifact, at one of its files, or at what a mark points at.
type Ref struct {
	Store   Name
	Name    Name
	Version Version // empty when Mark is set
	Mark    Name
	File    string // of that artifact, "" for the whole
}

// ParseRef reads store/name@version, store/name:mark, each with an optional #file. The version
// starts at the last "@" that does not open a path segment.
func ParseRef(text string) (Ref, error) {
	bad := func() (Ref, error) {
		return Ref{}, fault.Invalid("%s does not name an artifact", quote(text)).
			Hint("write STORE/NAME@VERSION or STORE/NAME:MARK, as in intake/hivebook@1.4.0")
	}
	var ref Ref
	rest, file, _ := strings.Cut(text, "#")
	ref.File = file
	store, rest, ok := strings.Cut(rest, "/")
	if !ok {
		return bad()
	}
	var err error
	if ref.Store, err = ParseName("store", store); err != nil {
		return Ref{}, err
	}
	at := strings.LastIndex(rest, "@")
	if at > 0 && rest[at-1] != '/' {
		if ref.Version, err = ParseVersion(rest[at+1:]); err != nil {
			return Ref{}, err
		}
		rest = rest[:at]
	} else if name, mark, ok := strings.Cut(rest, ":"); ok {
		if ref.Mark, err = ParseName("mark", mark); err != nil {
			return Ref{}, err
		}
		rest = name
	} else {
		return bad()
	}
	if ref.Name, err = ParseName("artifact", rest); err != nil {
		return Ref{}, err
	}
	if ref.File != "" {
		if err := CheckPath(ref.File); err != nil {
			return Ref{}, err
		}
	}
	return ref, nil
}

func (r Ref) String() string {
	s := string(r.Store) + "/" + string(r.Name)
	if r.Mark != "" {
		s += ":" + string(r.Mark)
	} else {
		s += "@" + string(r.Version)
	}
	if r.File != "" {
		s += "#" + r.File
	}
	return s
}

// CheckPath refuses a path of a file in an artifact that is absolute, leaves its root, is not
// clean, is no UTF-8, or is longer than 1,024 bytes.
func CheckPath(p string) error {
	bad := p == "" || len(p) > 1024 || strings.HasPrefix(p, "/") || strings.ContainsAny(p, "\\\x00\n\r") || !utf8.ValidString(p)
	for part := range strings.SplitSeq(p, "/") {
		bad = bad || part == "" || part == "." || part == ".."
	}
	if bad {
		return fault.Invalid("%s is not a path within an artifact", quote(p)).On("path").
			Hint(`use a relative path with "/" and without "..", at most 1,024 bytes`)
	}
	return nil
}

func quote(s string) string {
	if len(s) > 80 {
		s = s[:80] + "…"
	}
	return `"` + strings.NewReplacer("\n", `\n`, "\r", `\r`, `"`, `\"`, "\x00", `\0`).Replace(s) + `"`
}
