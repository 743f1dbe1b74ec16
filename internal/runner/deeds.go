package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"oskeld.dev/oskeld/internal/core/archive"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/stamp"
)

// MostStamped is the largest file that is stamped, in bytes.
const MostStamped = 16 << 20

// stamp writes values into a file of the workspace, never through a link that leaves it. Paths
// count from the top of the source.
func (s *stageRun) stamp(n int, what language.Stamp) error {
	root, err := os.OpenRoot(s.tree)
	if err != nil {
		return err
	}
	defer root.Close()
	from := what.From
	if from == "" {
		from = what.File
	}
	text, mode, err := readStamped(root, from)
	if err != nil {
		return err
	}
	values := s.stampValues()
	if what.From != "" {
		filled, err := stamp.Template(string(text), values)
		if err != nil {
			return fmt.Errorf("%s: %w", from, err)
		}
		text = []byte(filled)
	} else {
		fields := make([]stamp.Field, len(what.Set))
		for i, set := range what.Set {
			filled, err := condition.Fill(set.Text, values)
			if err != nil {
				return err
			}
			fields[i] = stamp.Field{Path: set.Field, Text: filled}
		}
		if text, err = stamp.Set(from, text, fields); err != nil {
			return err
		}
	}
	if s.hooks.Stamping != nil {
		if err := s.hooks.Stamping(filepath.Join(s.tree, what.File), text); err != nil {
			return err
		}
	}
	if err := root.MkdirAll(filepath.Dir(what.File), 0o755); err != nil {
		return err
	}
	if err := root.WriteFile(what.File, text, mode); err != nil {
		return err
	}
	s.log.tell(n, "stamped %s with version %s", what.File, values["version"])
	return nil
}

func readStamped(root *os.Root, name string) ([]byte, os.FileMode, error) {
	info, err := root.Stat(name)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, 0, fmt.Errorf("there is no file %s to stamp", name)
	case err != nil:
		return nil, 0, err
	case !info.Mode().IsRegular():
		return nil, 0, fmt.Errorf("%s is not a file", name)
	case info.Size() > MostStamped:
		return nil, 0, fmt.Errorf("%s has %d bytes; at most %d are stamped", name, info.Size(), MostStamped)
	}
	text, err := root.ReadFile(name)
	return text, info.Mode().Perm(), err
}

// stampValues are all that stamps know by {name}.
func (s *stageRun) stampValues() map[string]string {
	values := map[string]string{}
	for name, value := range s.a.Values {
		values[name] = value
	}
	for _, a := range s.a.Scope.Asks {
		values["ask."+a.Name] = a.Text
	}
	for _, pair := range s.Variant {
		values["vary."+pair.Axis] = pair.Value
	}
	return values
}

// fetch lays an artifact into a directory of the workspace, and unpacks its archives if asked to.
func (s *stageRun) fetch(ctx context.Context, n int, what language.Fetch) error {
	if s.hooks.Fetch == nil {
		return errors.New("there is no service to fetch from")
	}
	dir := filepath.Join(s.tree, what.Into)
	root, err := os.OpenRoot(s.tree)
	if err != nil {
		return err
	}
	err = root.MkdirAll(what.Into, 0o755) // never through a link that leaves the workspace
	root.Close()
	if err != nil {
		return err
	}
	names, err := s.hooks.Fetch(ctx, what.Artifact, dir)
	if err != nil {
		return err
	}
	for _, name := range names {
		s.log.tell(n, "fetched %s from %s", name, what.Artifact)
		if what.Unpack && archive.IsArchive(name) {
			if err := unpack(dir, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// unpack lays an archive's files beside it and removes it.
func unpack(dir, name string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	file, err := root.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	err = archive.Unpack(name, file, info.Size(), func(path string, executable bool, r io.Reader) error {
		if err := root.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		mode := os.FileMode(0o644)
		if executable {
			mode = 0o755
		}
		to, err := root.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
		if err != nil {
			return err
		}
		_, err = io.Copy(to, r)
		return errors.Join(err, to.Close())
	})
	if err != nil {
		return err
	}
	return root.Remove(name)
}

// MostExport is the largest value that a step exports, in bytes.
const MostExport = 64 << 10

// exportsDir is where the steps of this attempt lay what they export, a file a value.
func (s *stageRun) exportsDir() string {
	dir := filepath.Join(s.root, "exports", fmt.Sprint(s.Index))
	_ = os.MkdirAll(dir, 0o700) // where it cannot be made, the step that writes into it says so
	return dir
}

// takeExports reads the values that the stage's steps exported. One that holds a secret is refused.
func (s *stageRun) takeExports() error {
	dir := s.exportsDir()
	defer os.RemoveAll(dir)
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	var have []string
	for _, e := range entries {
		name := e.Name()
		if !slices.Contains(s.Stage.Exports, name) {
			s.event.Notes = append(s.event.Notes, fmt.Sprintf("%s was exported and is not named under `exports`, so it is dropped", name))
			continue
		}
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Size() > MostExport {
			return fmt.Errorf("export %s is not a file of at most %d bytes", name, MostExport)
		}
		text, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		value := strings.TrimSuffix(string(text), "\n") // as echo ends it
		if !utf8.Valid(text) || strings.ContainsRune(value, 0) {
			return fmt.Errorf("export %s is not UTF-8 text", name)
		}
		for _, secret := range s.secrets {
			if len(secret) >= 4 && strings.Contains(value, secret) {
				return fmt.Errorf("export %s holds a secret; it is refused", name)
			}
		}
		have = append(have, name)
		s.event.Exports = append(s.event.Exports, condition.Export{Name: name, Variant: s.Variant.String(), Text: value})
	}
	for _, name := range s.Stage.Exports {
		if !slices.Contains(have, name) {
			s.event.Notes = append(s.event.Notes, fmt.Sprintf("%s is named under `exports`, and no step exported it", name))
		}
	}
	return nil
}
