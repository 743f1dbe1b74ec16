package command

import (
	"bytes"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What stands in the demo's way is told in a sentence with a way out, and nobody's data are touched.
func TestDemoDirectory(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	free := l.Addr().(*net.TCPAddr).Port
	l.Close()
	prepare := func(dir string, port int) (func(), bool, error) {
		d := &demoRun{cli: &cli{out: &bytes.Buffer{}}, dir: dir, port: port}
		return d.prepare()
	}
	foreign := t.TempDir()
	if err := os.WriteFile(filepath.Join(foreign, "thesis.txt"), []byte("years of work"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, _, err := prepare(foreign, free); err == nil || !strings.Contains(err.Error(), "is not a demo's directory: move it away, or name another: make demo DIR=…") {
		t.Error(err)
	}
	dir := filepath.Join(t.TempDir(), "demo")
	unlock, fresh, err := prepare(dir, free)
	if err != nil || !fresh {
		t.Fatal(fresh, err)
	}
	if _, _, err := prepare(dir, free); err == nil || !strings.Contains(err.Error(), "a demo runs already from") {
		t.Error(err)
	}
	unlock()
	half := filepath.Join(dir, "service", "half")
	if err := os.MkdirAll(half, 0o755); err != nil {
		t.Fatal(err)
	}
	unlock, fresh, err = prepare(dir, free) // a half made one is made anew
	if _, statErr := os.Stat(half); err != nil || !fresh || statErr == nil {
		t.Fatal(fresh, err, statErr)
	}
	unlock()
	if err := writeMark(dir, demoMark{demoFormat, true}); err != nil {
		t.Fatal(err)
	}
	unlock, fresh, err = prepare(dir, free)
	if err != nil || fresh {
		t.Fatal("a whole one is not used again", fresh, err)
	}
	unlock()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	if _, _, err := prepare(dir, taken.Addr().(*net.TCPAddr).Port); err == nil || !strings.Contains(err.Error(), "is taken by another program: name another: make demo PORT=") {
		t.Error(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "demo.json"), []byte("{harmed"), 0o644); err != nil {
		t.Fatal(err)
	}
	unlock, fresh, err = prepare(dir, free)
	if err != nil || !fresh {
		t.Error("a harmed mark", fresh, err)
	}
	unlock()
}

func TestPairs(t *testing.T) {
	got, err := pairs([]string{"scale=yes", "path=a=b"})
	if err != nil || got["scale"] != "yes" || got["path"] != "a=b" {
		t.Error(got, err)
	}
	for _, bad := range []string{"", "x", "=x", "x="} {
		if _, err := pairs([]string{bad}); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}
