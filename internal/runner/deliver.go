package runner

import (
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
	"strings"

	"oskeld.dev/oskeld/internal/core/archive"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/reading"
)

// readTests reads the stage's reports, also after a failed step: that is when they matter most.
// A test stage that read no test has not met its duty.
func (s *stageRun) readTests(worked bool) error {
	if len(s.Stage.ReadTests) == 0 {
		return s.testDuty(worked, "no report is named under `read`")
	}
	names, err := s.selectFiles(s.Stage.In, s.Stage.ReadTests)
	if err != nil {
		return err
	}
	var cases []reading.Case
	for _, name := range names {
		found, err := readReport(filepath.Join(s.tree, s.Stage.In, name))
		if err != nil {
			return fmt.Errorf("test report %s: %w", name, err)
		}
		cases = append(cases, found...)
	}
	if len(cases) > 0 {
		tests := &assignment.Tests{Sum: reading.Sum(cases)}
		for _, c := range cases {
			if c.Outcome == reading.Failed && len(tests.Failed) < 1000 {
				tests.Failed = append(tests.Failed, c)
			}
		}
		s.event.Tests = tests
		if tests.Sum.Failed > 0 {
			s.sayFailed(tests.Failed)
			return fmt.Errorf("%d of %d tests failed", tests.Sum.Failed, tests.Sum.Total)
		}
		return nil
	}
	why := "the reports hold no test"
	if len(names) == 0 {
		patterns, _ := files.ParsePatterns(s.Stage.ReadTests)
		why = "no report was found: " + nothing(patterns, s.Stage.ReadTests, s.Stage.In, os.DirFS(filepath.Join(s.tree, s.Stage.In)))
	}
	return s.testDuty(worked, why)
}

// sayFailed writes the failed tests into the log, where people look first; reports are files.
func (s *stageRun) sayFailed(failed []reading.Case) {
	for i, c := range failed {
		if i == 20 {
			s.log.say(len(s.event.Steps)-1, "… and %d more", len(failed)-i)
			return
		}
		s.log.say(len(s.event.Steps)-1, "failed: %s  %s\n%s", c.Name, c.Suite, c.Message)
	}
}

func (s *stageRun) testDuty(worked bool, why string) error {
	if s.Stage.Purpose != language.Test && len(s.Stage.ReadTests) == 0 || !worked {
		return nil // a failed step is cause enough
	}
	if s.Stage.Duty == language.DutyFail {
		return fmt.Errorf("duty not met: a test stage reads tests, and %s", why)
	}
	if s.Stage.Duty == language.DutyWarn {
		s.event.Notes = append(s.event.Notes, "no test was read: "+why)
	}
	return nil
}

func readReport(name string) ([]reading.Case, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return reading.Tests(f)
}

// nothing says which pattern matched nothing, where, and what is there that comes near.
func nothing(p files.Patterns, texts []string, root string, fsys fs.FS) string {
	if root == "" || root == "." {
		root = "the workspace"
	}
	text := fmt.Sprintf("nothing in %s matches %s", root, strings.Join(texts, ", "))
	if len(texts) == 0 {
		text = root + " is empty"
	}
	if _, err := fs.Stat(fsys, "."); err != nil {
		return fmt.Sprintf("there is no directory %s", root)
	}
	if near := p.Nearest(fsys, 3); len(near) > 0 {
		text += "; nearest there: " + strings.Join(near, ", ")
	}
	return text
}

// selectFiles lists files below a directory of the workspace by patterns.
func (s *stageRun) selectFiles(dir string, patterns []string) ([]string, error) {
	p, err := files.ParsePatterns(patterns)
	if err != nil {
		return nil, err
	}
	names, err := p.Select(os.DirFS(filepath.Join(s.tree, dir)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return names, err
}

// deliver gathers carried files and artifacts and sends their bytes.
func (s *stageRun) deliver(ctx context.Context, hooks Hooks) error {
	var send []SendFile
	if len(s.Stage.Carry) > 0 {
		var err error
		if s.event.Carried, send, err = s.carry(); err != nil {
			return err
		}
	}
	delivered := 0
	for i, a := range s.Stage.Artifacts {
		found, err := s.artifact(ctx, i, a)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			continue
		}
		d := assignment.Delivery{Store: a.Store, Name: a.Name, SpareMS: a.Spare.Milliseconds()}
		for _, f := range found {
			d.Files = append(d.Files, f.File)
		}
		s.event.Deliveries = append(s.event.Deliveries, d)
		send = append(send, found...)
		delivered++
	}
	if s.Stage.Purpose == language.Package && delivered == 0 {
		switch s.Stage.Duty {
		case language.DutyFail:
			return errors.New("duty not met: a package stage delivers something, and this one delivered nothing")
		case language.DutyWarn:
			s.event.Notes = append(s.event.Notes, "nothing was delivered")
		}
	}
	if len(send) == 0 {
		return nil
	}
	return hooks.Send(ctx, send)
}

// artifact selects, lays out and packs the files of one artifact table.
func (s *stageRun) artifact(ctx context.Context, i int, a language.Artifact) ([]SendFile, error) {
	root := filepath.Join(s.tree, a.Root)
	names, err := s.selectFiles(a.Root, a.Files)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		p, _ := files.ParsePatterns(a.Files)
		text := fmt.Sprintf("artifact %q: %s", a.Name, nothing(p, a.Files, a.Root, os.DirFS(root)))
		switch a.Duty {
		case language.DutyFail:
			return nil, errors.New(text)
		case language.DutyWarn:
			s.event.Notes = append(s.event.Notes, text)
		}
		return nil, nil
	}
	found, err := s.hash(root, names)
	if err != nil {
		return nil, err
	}
	if a.Flat {
		for j := range found {
			found[j].File.Path = path.Base(found[j].File.Path)
		}
	}
	if a.Pack == language.PackNone {
		if a.File != "" {
			if len(found) != 1 {
				return nil, fmt.Errorf("artifact %q: `file` names one file, and %d were found: %s …", a.Name, len(found), found[0].File.Path)
			}
			found[0].File.Path = a.File
		}
		return found, contentError(found)
	}
	if err := contentError(found); err != nil {
		return nil, err
	}
	packed, err := s.pack(i, a, found)
	if err != nil {
		return nil, err
	}
	return []SendFile{packed}, ctx.Err()
}

func contentError(found []SendFile) error {
	list := make([]artifact.File, len(found))
	for i, f := range found {
		list[i] = f.File
	}
	_, err := artifact.NewContent(list)
	return err
}

func (s *stageRun) pack(i int, a language.Artifact, found []SendFile) (SendFile, error) {
	target := filepath.Join(s.root, "packed", fmt.Sprintf("%d-%d", s.Index, i))
	if err := os.MkdirAll(filepath.Dir(target), 0o700); err != nil {
		return SendFile{}, err
	}
	entries := make([]archive.Entry, len(found))
	for j, f := range found {
		entries[j] = archive.Entry{Path: f.File.Path, Size: f.Size, Executable: f.Executable,
			Open: func() (io.ReadCloser, error) { return os.Open(f.Path) }}
	}
	file, err := os.Create(target)
	if err != nil {
		return SendFile{}, err
	}
	sum := sha256.New()
	write := map[language.Pack]func(io.Writer, []archive.Entry) error{language.PackZip: archive.Zip, language.PackTarGz: archive.TarGz, language.PackTarZst: archive.TarZst}[a.Pack]
	err = write(io.MultiWriter(file, sum), entries)
	size, seekErr := file.Seek(0, io.SeekCurrent)
	if err := errors.Join(err, seekErr, file.Close()); err != nil {
		return SendFile{}, fmt.Errorf("artifact %q: %w", a.Name, err)
	}
	return SendFile{Path: target, File: artifact.File{Path: a.File, Size: size, Digest: artifact.Digest(hex.EncodeToString(sum.Sum(nil)))}}, nil
}

// hash describes files below a root. A link is followed only within the root.
func (s *stageRun) hash(root string, names []string) ([]SendFile, error) {
	r, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var list []SendFile
	buffer := make([]byte, 256<<10)
	for _, name := range names {
		f, err := hashOne(r, root, name, buffer)
		if errors.Is(err, errNoFile) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		list = append(list, f)
	}
	return list, nil
}

var errNoFile = errors.New("not a file")

func hashOne(r *os.Root, root, name string, buffer []byte) (SendFile, error) {
	f, err := r.Open(name)
	if err != nil {
		return SendFile{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return SendFile{}, err
	}
	if !info.Mode().IsRegular() {
		return SendFile{}, errNoFile // a link to a directory
	}
	sum := sha256.New()
	size, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{f}, buffer)
	if err != nil {
		return SendFile{}, err
	}
	return SendFile{Path: filepath.Join(root, name), File: artifact.File{Path: filepath.ToSlash(name), Size: size,
		Digest: artifact.Digest(hex.EncodeToString(sum.Sum(nil))), Executable: info.Mode()&0o111 != 0}}, nil
}
