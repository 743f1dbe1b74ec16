package main

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"time"
)

const (
	unchanged = 9      // builds in which nothing has changed
	smallOnes = 20_000 // files that one stage hands on to the next
)

// nothingNew measures a build in which nothing has changed: three chains over 10,000 files, all taken over.
func (b *bench) nothingNew() ([]result, error) {
	ctx := context.Background()
	if err := writeFiles(filepath.Join(b.dir, "still")); err != nil {
		return nil, err
	}
	if err := b.pipeline(ctx, "still", `[stage.restore]
reuse = ["**"]
carry = ["d00/**"]
script = "true"
[stage.compile]
after = ["restore"]
reuse = ["d1*/**"]
script = "true"
[stage.package]
after = ["compile", "restore"]
reuse = ["**"]
[[stage.package.artifact]]
name = "still"
files = ["d01/**"]
store = "intake"
`); err != nil {
		return nil, err
	}
	var took []time.Duration
	for i := range unchanged + 1 {
		began := time.Now()
		d, err := b.build(ctx, "still")
		if err != nil {
			return nil, err
		}
		if i == 0 {
			continue
		}
		took = append(took, time.Since(began))
		for _, r := range d.Runs {
			if r.State != "reused" {
				return nil, fmt.Errorf("still/%d ran %s: %s", d.Number, r.Name, r.Reuse)
			}
		}
	}
	p50 := quantile(took, 0.5)
	return []result{{"a build of 10,000 files in which nothing has changed, p50", "", ms(p50), p50.Seconds(), "<= 1 s", p50 <= time.Second}}, nil
}

// carrying measures how long 20,000 small files take from the end of one stage's work to the begin of the
// next one's, against copying them on this disk: the service writes them down, and the next stage's agent does.
func (b *bench) carrying() ([]result, error) {
	ctx := context.Background()
	script := fmt.Sprintf("import os\nos.makedirs('out')\nfor i in range(%d):\n    open(f'out/{i}', 'w').write(f'frame {i}')\n", smallOnes)
	if err := b.pipeline(ctx, "carrier", "[stage.make]\nshell = [\"python3\"]\nscript = '''\n"+script+"'''\ncarry = [\"out/**\"]\n[stage.look]\nafter = [\"make\"]\nscript = \"ls out | wc -l\"\n"); err != nil {
		return nil, err
	}
	dir := filepath.Join(b.dir, "copied")
	if out, err := exec.Command("sh", "-euc", "mkdir "+dir+" && cd "+dir+" && python3 -c \""+script+"\"").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	began := time.Now()
	if out, err := exec.Command("cp", "-r", filepath.Join(dir, "out"), filepath.Join(dir, "again")).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	floor := time.Since(began)
	d, err := b.build(ctx, "carrier")
	if err != nil {
		return nil, err
	}
	got := time.Duration(d.Runs[0].DeliveringMS+d.Runs[1].PreparingMS) * time.Millisecond
	return []result{{"20,000 small files carried to the next stage (floor: cp -r)", ms(floor), ms(got), float64(got) / float64(floor), "<= 3x: written twice", got <= 3*floor}}, nil
}
