package artifact

import (
	"fmt"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
)

// File is one file of a content. Size is in bytes; only the executable bit of the mode counts.
type File struct {
	Path       string `json:"path"`
	Size       int64  `json:"size"`
	Digest     Digest `json:"sha256"`
	Executable bool   `json:"executable,omitempty"`
	Link       string `json:"link,omitempty" doc:"where a carried symbolic link points; size and digest are those of this text. What is delivered holds no links"`
}

// NewLink is a symbolic link among carried files.
func NewLink(path, target string) File {
	return File{Path: path, Size: int64(len(target)), Digest: DigestOf([]byte(target)), Link: target}
}

// Content is what was made, wherever it lies and whatever it is called: files sorted by path.
type Content struct {
	Files []File `json:"files"`
}

// NewContent sorts the files, and refuses bad paths, a path that stands twice with different bytes, and a
// path that is also another's directory. The same file twice counts once.
func NewContent(files []File) (Content, error) {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	files = slices.Compact(files)
	taken := make(map[string]bool, len(files))
	for i, f := range files {
		if err := CheckPath(f.Path); err != nil {
			return Content{}, err
		}
		if i > 0 && files[i-1].Path == f.Path {
			return Content{}, fault.Conflict("two different files are delivered as %q", f.Path).
				Hint("give each its own name in `file`, or its own `root`")
		}
		taken[f.Path] = true
	}
	for _, f := range files {
		for dir := f.Path; ; {
			i := strings.LastIndexByte(dir, '/')
			if i < 0 {
				break
			}
			if dir = dir[:i]; taken[dir] {
				return Content{}, fault.Conflict("%q is a file and also the directory of %q", dir, f.Path)
			}
		}
	}
	return Content{Files: files}, nil
}

// Digest is the identity of the content: the SHA-256 of one line a file,
// "<mode> <size> <sha256> <path>\n" with mode 644 or 755.
func (c Content) Digest() Digest {
	var b strings.Builder
	for _, f := range c.Files {
		mode := 644
		if f.Executable {
			mode = 755
		}
		fmt.Fprintf(&b, "%d %d %s %s\n", mode, f.Size, string(f.Digest), f.Path)
	}
	return DigestOf([]byte(b.String()))
}

// Size is the sum of the files' sizes in bytes.
func (c Content) Size() (n int64) {
	for _, f := range c.Files {
		n += f.Size
	}
	return n
}
