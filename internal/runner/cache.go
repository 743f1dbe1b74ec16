package runner

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/cache"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/language"
)

// mostCache is the largest cache, in bytes before it is packed.
const mostCache = 8 << 30

// findCaches lays the stage's caches in, before its first step. What goes wrong with them never fails a
// stage: it works without.
func (s *stageRun) findCaches(ctx context.Context) {
	if s.hooks.FindCache == nil {
		return
	}
	for _, c := range s.Stage.Cache {
		basis, err := s.cacheBasis(c)
		if err != nil {
			s.log.tell(0, "cache %s: %v", strings.Join(c.Dirs, ", "), err)
			continue
		}
		if s.cached[basis.Key()] { // an earlier stage of the chain has laid it in, or will save it
			continue
		}
		s.cached[basis.Key()] = true
		found, err := s.hooks.FindCache(ctx, basis)
		switch {
		case err != nil:
			s.log.tell(0, "cache %s: not looked for: %v", basis.Name(), err)
		case found.Digest == "":
			s.log.tell(0, "cache %s: none, %s", basis.Name(), found.Why)
			s.missed = append(s.missed, basis)
		default:
			began := time.Now()
			if err := s.layCache(ctx, basis, found); err != nil {
				s.log.tell(0, "cache %s: could not be laid in: %v", basis.Name(), err)
				continue
			}
			s.log.tell(0, "cache %s: %s of %s laid in, %.1f s", basis.Name(), byteCount(found.Size), found.From, time.Since(began).Seconds())
		}
	}
}

func byteCount(n int64) string {
	if n < 1_000_000 {
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}

func (s *stageRun) cacheBasis(c language.Cache) (cache.Basis, error) {
	b := cache.Basis{Dirs: c.Dirs, By: map[string]artifact.Digest{}, System: runtime.GOOS + "/" + runtime.GOARCH, Tools: map[string]string{}}
	for _, t := range s.event.Tools {
		b.Tools[t.Name] = t.Version
	}
	patterns, err := files.ParsePatterns(c.By)
	if err != nil {
		return b, err
	}
	list, err := patterns.Select(os.DirFS(s.tree))
	if err != nil {
		return b, err
	}
	if len(list) == 0 {
		return b, fmt.Errorf("nothing here fits %s, so it cannot be told by what to find it again", strings.Join(c.By, ", "))
	}
	for _, name := range list {
		if b.By[name], err = digestOf(filepath.Join(s.tree, name)); err != nil {
			return b, err
		}
	}
	return b, nil
}

func digestOf(path string) (artifact.Digest, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return artifact.Digest(hex.EncodeToString(sum.Sum(nil))), nil
}

// cacheDir is where a cache's directory lies.
func (s *stageRun) cacheDir(dir string) string {
	if rest, ok := strings.CutPrefix(dir, "~/"); ok {
		return filepath.Join(s.home, rest)
	}
	return filepath.Join(s.tree, dir)
}

// layCache unpacks a cache. Each directory of it is made anew.
func (s *stageRun) layCache(ctx context.Context, basis cache.Basis, found assignment.CacheFound) error {
	body, err := s.hooks.Get(ctx, found.Digest)
	if err != nil {
		return err
	}
	defer body.Close()
	sum := sha256.New()
	whole := io.TeeReader(body, sum)
	z, err := zstd.NewReader(whole, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return err
	}
	defer z.Close()
	roots := make([]*os.Root, len(basis.Dirs))
	for i, dir := range basis.Dirs {
		at := s.cacheDir(dir)
		Remove(at)
		if err := os.MkdirAll(at, 0o755); err != nil {
			return err
		}
		if roots[i], err = os.OpenRoot(at); err != nil {
			return err
		}
		defer roots[i].Close()
	}
	err = unpackTree(tar.NewReader(z), roots)
	if err == nil {
		_, err = io.Copy(io.Discard, whole) // what comes after the archive's end
	}
	if err == nil && hex.EncodeToString(sum.Sum(nil)) != string(found.Digest) {
		err = errors.New("its bytes are not those that were saved")
	}
	if err != nil { // half of it is worse than none
		for _, dir := range basis.Dirs {
			Remove(s.cacheDir(dir))
		}
	}
	return err
}

// unpackTree unpacks what packTree packed, into one root a directory.
func unpackTree(t *tar.Reader, roots []*os.Root) error {
	tree := newTree(mostCache)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return tree.end()
		}
		if err != nil {
			return err
		}
		number, name, _ := strings.Cut(h.Name, "/")
		i, err := strconv.Atoi(number)
		if err != nil || i < 0 || i >= len(roots) {
			return fmt.Errorf("%q belongs to no directory of the cache", h.Name)
		}
		if err := tree.put(roots[i], name, h, t); err != nil {
			return err
		}
	}
}

// saveCaches packs and sends what was missed, after the stage has passed, and notes it in the stage's end.
func (s *stageRun) saveCaches(ctx context.Context) {
	if !s.a.Trusted || s.hooks.Send == nil || s.Passed {
		return
	}
	for _, basis := range s.missed {
		saved, err := s.saveCache(ctx, basis)
		if err != nil {
			s.log.tell(len(s.event.Steps)-1, "cache %s: not saved: %v", basis.Name(), err)
			continue
		}
		s.event.Caches = append(s.event.Caches, saved)
		s.log.tell(len(s.event.Steps)-1, "cache %s: %s saved", basis.Name(), byteCount(saved.Size))
	}
}

// errNothing says that a cache's directories hold nothing.
var errNothing = errors.New("nothing lies there")

func (s *stageRun) saveCache(ctx context.Context, basis cache.Basis) (saved assignment.CacheSaved, err error) {
	f, err := os.CreateTemp(s.root, "cache-")
	if err != nil {
		return saved, err
	}
	defer os.Remove(f.Name())
	sum := sha256.New()
	size, err := s.packCache(ctx, io.MultiWriter(f, sum), basis)
	if err = errors.Join(err, f.Close()); err != nil {
		return saved, err
	}
	if size == 0 {
		return saved, errNothing
	}
	info, err := os.Stat(f.Name())
	if err != nil {
		return saved, err
	}
	saved = assignment.CacheSaved{Basis: basis, Digest: artifact.Digest(hex.EncodeToString(sum.Sum(nil))), Size: info.Size()}
	file := artifact.File{Path: "cache", Size: saved.Size, Digest: saved.Digest}
	return saved, s.hooks.Send(ctx, []SendFile{{Path: f.Name(), File: file, Again: true}})
}

// packCache writes the cache's directories as a tar in zstd, and gives how many bytes their files have.
func (s *stageRun) packCache(ctx context.Context, w io.Writer, basis cache.Basis) (size int64, err error) {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return 0, err
	}
	t := tar.NewWriter(z)
	for i, dir := range basis.Dirs {
		n, err := packTree(ctx, t, strconv.Itoa(i), s.cacheDir(dir), mostCache-size)
		if size += n; err != nil && !errors.Is(err, fs.ErrNotExist) {
			return size, errors.Join(err, z.Close())
		}
	}
	return size, errors.Join(t.Close(), z.Close())
}

// packTree packs a directory with rights, links and times, under a name. Sockets and the like are left out.
func packTree(ctx context.Context, t *tar.Writer, name, dir string, most int64) (size int64, err error) {
	return size, filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		link := ""
		switch {
		case d.IsDir(), info.Mode().IsRegular():
		case info.Mode()&fs.ModeSymlink != 0:
			if link, err = os.Readlink(at); err != nil {
				return err
			}
		default:
			return nil
		}
		h, err := tar.FileInfoHeader(info, link)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		if err != nil {
			return err
		}
		h.Name, h.Uid, h.Gid, h.Uname, h.Gname, h.Format = path.Join(name, filepath.ToSlash(rel)), 0, 0, "", "", tar.FormatPAX
		if d.IsDir() {
			h.Name += "/"
		}
		if err := t.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
			return err
		}
		if size += info.Size(); size > most {
			return fmt.Errorf("it holds more than %d bytes", int64(mostCache))
		}
		f, err := os.Open(at)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.CopyN(t, f, info.Size())
		return err
	})
}
