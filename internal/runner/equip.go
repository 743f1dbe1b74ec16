package runner

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/klauspost/compress/zstd"

	"oskeld.dev/oskeld/internal/core/archive"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/view"
)

// mostTool is how many bytes an unpacked tool may have.
const mostTool = 16 << 30

// equip puts the tools that the stage asks for on its PATH: the machine's own where they fit, else those
// of a store, unpacked once into Dir/tools/DIGEST and shared by all that come after.
func (s *stageRun) equip(ctx context.Context) error {
	s.event.Tools, s.toolDirs = nil, nil
	for _, name := range slices.Sorted(maps.Keys(s.Stage.Equip)) {
		want := s.a.Equip[name]
		if len(facts.Demand{name: want}.Against(s.Facts)) == 0 {
			s.event.Tools = append(s.event.Tools, view.Tool{Name: name, Version: s.Facts[name]})
			s.log.tell(0, "equipped with %s %s, this machine's own", name, s.Facts[name])
			continue
		}
		i := slices.IndexFunc(s.a.Tools, func(t plan.Tool) bool { return t.Name == name })
		if i < 0 {
			return fmt.Errorf("equip: this machine has no %s %s (it has %s), and no store has one", name, want, s.Facts[name])
		}
		tool := s.a.Tools[i]
		file, ok := tool.Files[runtime.GOOS+"/"+runtime.GOARCH]
		if !ok {
			file, ok = tool.Files[facts.Any]
		}
		if !ok {
			return fmt.Errorf("equip: %s has no file for %s/%s", tool.From, runtime.GOOS, runtime.GOARCH)
		}
		began := time.Now()
		dir, fresh, err := s.toolDir(ctx, tool, file)
		if err != nil {
			return fmt.Errorf("equip: %s of %s: %w", file.Path, tool.From, err)
		}
		s.toolDirs = append(s.toolDirs, namedDir{name, dir})
		s.event.Tools = append(s.event.Tools, view.Tool{Name: name, Version: tool.Version, From: tool.From, Digest: file.Digest})
		how := "unpacked here before"
		if fresh {
			how = fmt.Sprintf("%s unpacked in %.1f s", byteCount(file.Size), time.Since(began).Seconds())
		}
		s.log.tell(0, "equipped with %s %s of %s, %s", name, tool.Version, tool.From, how)
	}
	return nil
}

// toolRoots are the directories of the tools that the stage is equipped with.
func (s *stageRun) toolRoots() (dirs []string) {
	for _, t := range s.toolDirs {
		dirs = append(dirs, t.dir)
	}
	return dirs
}

// namedDir is where a tool lies.
type namedDir struct{ name, dir string }

// bin is the directory for the PATH.
func (d namedDir) bin() string {
	bin := filepath.Join(d.dir, "bin")
	if info, err := os.Stat(bin); err == nil && info.IsDir() {
		return bin
	}
	return d.dir
}

// toolDir gives the directory of an unpacked tool, which nobody removes before the chain ends.
func (s *stageRun) toolDir(ctx context.Context, tool plan.Tool, file artifact.File) (dir string, fresh bool, err error) {
	root := filepath.Join(s.Dir, "tools")
	if err := os.MkdirAll(root, 0o755); err != nil {
		return "", false, err
	}
	dir = filepath.Join(root, string(file.Digest))
	lock := flock.New(dir + ".lock")
	if _, err := lock.TryLockContext(ctx, 20*time.Millisecond); err != nil {
		return "", false, err
	}
	if _, err := os.Stat(dir); err != nil {
		fresh = true
		if err := s.unpackTool(ctx, dir, tool, file); err != nil {
			return "", false, errors.Join(err, lock.Unlock())
		}
	}
	now := time.Now() // a sweep leaves alone what was used lately
	err = errors.Join(os.Chtimes(dir, now, now), lock.Unlock())
	if err == nil {
		err = lock.RLock()
	}
	s.toolLocks = append(s.toolLocks, lock)
	return top(dir), fresh, err
}

// top goes down into the one directory in which many archives have everything.
func top(dir string) string {
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) == 1 && entries[0].IsDir() && entries[0].Name() != "bin" {
		return filepath.Join(dir, entries[0].Name())
	}
	return dir
}

// unpackTool fetches a tool's file, checks its digest, and unpacks it under a temporary name, so that dir
// is there whole or not at all.
func (s *stageRun) unpackTool(ctx context.Context, dir string, tool plan.Tool, file artifact.File) error {
	packed, err := os.CreateTemp(filepath.Dir(dir), "fetched-")
	if err != nil {
		return err
	}
	defer func() { packed.Close(); os.Remove(packed.Name()) }()
	body, err := s.hooks.Get(ctx, file.Digest)
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(packed, sum), body)
	if err = errors.Join(err, body.Close()); err != nil {
		return err
	}
	if hex.EncodeToString(sum.Sum(nil)) != string(file.Digest) {
		return errors.New("its bytes do not have the digest that the store names")
	}
	temp, err := os.MkdirTemp(filepath.Dir(dir), "unpacking-")
	if err != nil {
		return err
	}
	defer Remove(temp)
	if err := os.Chmod(temp, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(temp)
	if err != nil {
		return err
	}
	defer root.Close()
	if !archive.IsArchive(file.Path) {
		err = installProgram(root, tool.Name, packed, file.Size)
	} else {
		err = unpackArchive(root, file.Path, packed, file.Size)
	}
	if err != nil {
		return err
	}
	err = os.Rename(temp, dir)
	if _, there := os.Stat(dir); there == nil {
		return nil // also where a sweep took the lock's file away, and another was faster
	}
	return err
}

// installProgram lays a tool that is one program into bin under the tool's name.
func installProgram(root *os.Root, name string, from io.ReaderAt, size int64) error {
	if runtime.GOOS == "windows" {
		name += ".exe"
	}
	tree := newTree(mostTool)
	h := &tar.Header{Typeflag: tar.TypeReg, Mode: 0o755, Size: size, ModTime: time.Now()}
	return tree.put(root, "bin/"+name, h, io.NewSectionReader(from, 0, size))
}

// unpackArchive unpacks a tar or zip with its rights and links.
func unpackArchive(root *os.Root, name string, from io.ReaderAt, size int64) error {
	tree := newTree(mostTool)
	lower := strings.ToLower(name)
	body := io.Reader(io.NewSectionReader(from, 0, size))
	switch {
	case strings.HasSuffix(lower, ".tar"):
	case strings.HasSuffix(lower, "gz"):
		g, err := gzip.NewReader(body)
		if err != nil {
			return err
		}
		body = g
	case strings.HasSuffix(lower, ".zst"):
		z, err := zstd.NewReader(body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		body = z
	default:
		return errors.Join(unpackZip(root, tree, from, size), tree.end())
	}
	for t := tar.NewReader(body); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return tree.end()
		}
		if err != nil {
			return err
		}
		if err := tree.put(root, strings.TrimPrefix(h.Name, "./"), h, t); err != nil {
			return err
		}
	}
}

func unpackZip(root *os.Root, tree *treeWriter, from io.ReaderAt, size int64) error {
	z, err := zip.NewReader(from, size)
	if err != nil {
		return err
	}
	for _, f := range z.File {
		body, err := f.Open()
		if err != nil {
			return err
		}
		link := ""
		if f.Mode()&os.ModeSymlink != 0 {
			text, err := io.ReadAll(io.LimitReader(body, 4096))
			if err != nil {
				return err
			}
			link = string(text)
		}
		h, err := tar.FileInfoHeader(f.FileInfo(), link)
		if err == nil {
			err = tree.put(root, f.Name, h, body)
		}
		if err = errors.Join(err, body.Close()); err != nil {
			return err
		}
	}
	return nil
}

// SweepTools removes the unpacked tools in the machine's directory that nobody has used since before, and
// what a killed runner left half unpacked, and names those that went.
func (m Machine) SweepTools(before time.Time) (gone []string) {
	root := filepath.Join(m.Dir, "tools")
	entries, _ := os.ReadDir(root)
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || info.ModTime().After(before) || strings.HasSuffix(e.Name(), ".lock") {
			continue
		}
		dir := filepath.Join(root, e.Name())
		lock := flock.New(dir + ".lock")
		if free, err := lock.TryLock(); err != nil || !free {
			continue
		}
		if info, err = os.Stat(dir); err == nil && !info.ModTime().After(before) {
			Remove(dir)
			gone = append(gone, e.Name())
		}
		_ = lock.Unlock()
		os.Remove(dir + ".lock")
	}
	return gone
}
