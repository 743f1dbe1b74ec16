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
mkdir -p out/deep/er; for i in $(seq 5000); do echo "frame $i" > out/deep/$i; done
echo run > out/run; chmod 755 out/run
"""
[stage.look]
vary = { n = ["1", "2", "3"] }
after = ["make"]
script = """
test "$(ls out/deep | wc -l)" = 5000; test "$(cat out/deep/777)" = "frame 777"; test -x out/run; test ! -x out/deep/1
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
