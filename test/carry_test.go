package test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

// Many small files are carried with their rights, and what a step does to them harms nobody else.
func TestCarryManyFiles(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	w.agent("heron")
	w.pipeline("hivebook", `
[stage.make]
carry = ["out/**"]
script = """
mkdir -p out/deep/er; touch out/deep/er/egg; for i in $(seq 5000); do echo "frame $i" > out/deep/$i; done
echo run > out/run; chmod 755 out/run
ln -s deep/er/../777 out/best; ln -s deep out/frames; ln -s /nowhere out/lost
"""
[stage.look]
vary = { n = ["1", "2", "3"] }
after = ["make"]
script = """
test "$(ls out/deep | wc -l)" = 5001; test "$(cat out/deep/777)" = "frame 777"; test -x out/run; test ! -x out/deep/1
test "$(readlink out/best)" = deep/er/../777; test "$(cat out/best)" = "frame 777"
test -h out/frames; test "$(ls out/frames/ | wc -l)" = 5001; test "$(readlink out/lost)" = /nowhere
for i in $(seq 50); do echo spoiled >> out/deep/$i; done; chmod 000 out/run
"""
`)
	b := w.start("hivebook", "")
	d := w.await(b)
	if d.State != progress.Passed {
		t.Fatalf("%s\n%s", d.Cause, strings.Join(w.lines(b, 1), "\n"))
	}
	for _, r := range d.Runs {
		t.Logf("%s %s: preparing %d ms, delivering %d ms", r.Name, r.Variant, r.PreparingMS, r.DeliveringMS)
	}
}

// counted passes calls on to the service and counts those that get bytes.
func counted(t *testing.T, to string) (address string, gets *atomic.Int64) {
	t.Helper()
	t.Helper()
	gets = &atomic.Int64{}
	return between(t, to, func(w http.ResponseWriter, r *http.Request, on http.Handler) {
		if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/blobs/") || r.URL.Path == "/blobs/carried" {
			gets.Add(1)
		}
		on.ServeHTTP(w, r)
	}), gets
}

// What an agent has carried or cached before does not travel to it again, unless it was changed there.
func TestCarryWhatIsLacking(t *testing.T) {
	w := newWorld(t)
	address, gets := counted(t, w.address)
	w.agent("barrow", "--service", address, "--fact", "hut=south")
	w.pipeline("hivebook", `
[stage.make]
facts = { hut = "south" }
cache = [{ dirs = ["combs"], by = ["oskeld.toml"] }]
carry = ["out/**"]
script = """
mkdir -p out; seq 200000 > out/large; echo small > out/small; echo smaller > out/smaller
test -e combs/large || { mkdir -p combs; seq 100000 | sort -R > combs/large; }
"""
[stage.look]
facts = { hut = "south" }
vary = { n = ["1", "2", "3"] }
after = ["make"]
script = "test $(tail -n 1 out/large) = 200000; test $(cat out/small) = small; echo spoiled >> out/large"
[stage.far]
after = ["make"]
facts = { hut = "north" }
script = "test $(tail -n 1 out/large) = 200000"
`)
	far, farGets := counted(t, w.address)
	w.agent("heron", "--service", far, "--fact", "hut=north", "--keep-bytes", "0")
	build := func(want, wantFar int64) {
		t.Helper()
		b := w.start("hivebook", "")
		if d := w.await(b); d.State != progress.Passed {
			t.Fatalf("%s\n%s", d.Cause, strings.Join(w.lines(b, 1), "\n"))
		}
		if got, gotFar := gets.Swap(0), farGets.Swap(0); got != want || gotFar != wantFar {
			t.Errorf("build %d: barrow asked for bytes %d times and heron %d times, want %d and %d", b.Number, got, gotFar, want, wantFar)
		}
	}
	build(1, 2) // one bundle for three variants; the large file was made here
	build(0, 2) // the cache too
	kept := filepath.Join(w.dir, "barrow", "kept")
	entries, err := os.ReadDir(kept)
	if err != nil || len(entries) != 3 {
		t.Fatalf("%v %v", entries, err)
	}
	for _, e := range entries {
		bytes := "poison"
		if strings.HasPrefix(e.Name(), "bundle-") { // nothing in it is wrong, and all is lacking
			bytes = ""
		}
		if err := os.WriteFile(filepath.Join(kept, e.Name()), []byte(bytes), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	build(3, 2)
	if out, code := w.run("", "agent", "run", "--keep-bytes", "much"); code != 2 || !strings.Contains(out, `--keep-bytes "much" is not a size`) {
		t.Errorf("%d %s", code, out)
	}
}
