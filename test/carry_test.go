package test

import (
	"strings"
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
