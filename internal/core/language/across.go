package language

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/files"
)

// across checks what only all of the file together can tell.
func (r *reader) across(p *Pipeline) {
	known := make([]string, len(p.Stages))
	for i, s := range p.Stages {
		known[i] = string(s.Name)
	}
	p.index = make(map[artifact.Name]int, len(p.Stages))
	for i, s := range p.Stages {
		p.index[s.Name] = i
	}
	r.known = p.Names()
	for i := range p.Stages {
		r.needs(&p.Stages[i], known)
	}
	r.circles(p)
	for _, check := range r.later {
		check(p)
	}
	for i := range p.Stages {
		s := &p.Stages[i]
		r.vary(p, s)
		r.duties(s)
		r.workspace(p, s)
		r.stamps(p, s)
		r.sends(p, s)
	}
	r.secrets(p)
	r.exports(p)
	r.runs(p)
	r.chainFacts(p)
	r.fileNames(p)
	r.meeting(p)
}

// quoted is the first place where a text stands in quotes.
func (r *reader) quoted(text string) span {
	for _, q := range []string{`"`, `'`} {
		if i := strings.Index(r.text, q+text+q); i >= 0 {
			return span{Offset: i, Length: len(text) + 2}
		}
	}
	return span{Length: 1}
}

func (r *reader) secrets(p *Pipeline) {
	used := map[string]bool{}
	for _, s := range p.Stages {
		for _, secret := range s.Secrets {
			used[secret] = true
			if !slices.Contains(p.Secrets, secret) {
				advice := suggest(secret, p.Secrets, "add it to secrets at the top of the file; there are: ")
				if advice == "" {
					advice = "add it to secrets at the top of the file"
				}
				r.add("S111", r.itemAt(s.Name, "secrets", secret), advice, "stage %q wants secret %q, which the pipeline does not name", s.Name, secret)
			}
		}
	}
	if len(p.Stages) == 0 {
		return
	}
	for _, secret := range p.Secrets {
		if !used[secret] {
			r.add("W201", r.quoted(secret), "name it under `secrets` of the stage that needs it", "secret %q is named and no stage uses it", secret)
		}
	}
}

func (r *reader) needs(s *Stage, known []string) {
	check := func(key string, verb string, name artifact.Name) {
		at := r.itemAt(s.Name, key, string(name))
		switch {
		case name == s.Name:
			r.add("S105", at, "", "stage %q %s itself", s.Name, verb)
		case !slices.Contains(known, string(name)):
			r.add("S104", at, suggest(string(name), known, "stages: "), "stage %q %s %q, which does not exist", s.Name, verb, name)
		}
	}
	if s.Follows != "" {
		check("follows", "follows", s.Follows)
	}
	for i, name := range s.After {
		check("after", "comes after", name)
		if slices.Contains(s.After[:i], name) {
			r.add("S106", r.itemAt(s.Name, "after", string(name)), "leave one out", "%q stands twice", name)
		}
	}
}

func (r *reader) duties(s *Stage) {
	at := r.stageAt[s.Name].At
	if s.Purpose == Test && len(s.ReadTests) == 0 && s.Duty == DutyFail {
		r.add("S114", at, `add read = { tests = ["report.xml"] }, or duty = "warn"`, "test stage %q reads no test report, so its duty cannot be met", s.Name)
	}
	if slices.ContainsFunc(r.list, func(d Diagnostic) bool { return d.Code == "S101" }) {
		return // what seems to be missing may stand under a misspelled key
	}
	if s.Purpose == Package && len(s.Artifacts) == 0 && s.Duty == DutyFail {
		r.add("W204", at, `add [[stage.`+string(s.Name)+`.artifact]], or duty = "warn"`, "package stage %q names no artifact", s.Name)
	}
	if len(s.Steps) == 0 && len(s.Artifacts) == 0 {
		r.add("W205", at, "add a script", "stage %q does nothing", s.Name)
	}
}

// chain lists the stages of a stage's chain up to itself, first first.
func (p *Pipeline) chain(s *Stage) []*Stage {
	list := []*Stage{s}
	for len(list) <= len(p.Stages) {
		before, ok := p.Stage(list[0].Follows)
		if list[0].Follows == "" || !ok {
			break
		}
		list = append([]*Stage{before}, list...)
	}
	return list
}

// workspace warns of an `after` that loses what the stage needs: a stage that only delivers or
// reads, in a fresh checkout into which nothing is carried.
func (r *reader) workspace(p *Pipeline, s *Stage) {
	if len(s.After) == 0 || len(s.Steps) > 0 || !slices.ContainsFunc(s.Artifacts, ofOutput) {
		return
	}
	for _, name := range s.After {
		parent, ok := p.Stage(name)
		if !ok {
			return
		}
		for _, before := range p.chain(parent) {
			if len(before.Carry) > 0 {
				return
			}
		}
	}
	last := s.After[len(s.After)-1]
	r.add("W207", r.keyAt(s.Name, "after"), fmt.Sprintf("say follows = %q, or let it `carry` the files", last),
		"stage %q begins in a fresh checkout, and nothing is carried into it: what %q made is not there", s.Name, last)
}

// outputs are where tools put what they make.
var outputs = []string{"out", "build", "dist", "target", "bin", "obj", "_build", "public", "site"}

// ofOutput tells whether an artifact surely is of files that a stage made.
func ofOutput(a Artifact) bool {
	return slices.ContainsFunc(append(slices.Clone(a.Files), a.Root), func(text string) bool {
		first, _, _ := strings.Cut(text, "/")
		return slices.Contains(outputs, first)
	})
}

// stamps refuses a stamp in a chain that nothing leaves: what ships must be what was stamped.
func (r *reader) stamps(p *Pipeline, s *Stage) {
	i := slices.IndexFunc(s.Steps, func(x Step) bool { return x.Stamp != nil && !x.Off })
	if i < 0 {
		return
	}
	for j := range p.Stages {
		other := &p.Stages[j]
		if slices.ContainsFunc(p.chain(other), func(x *Stage) bool { return x.Name == s.Name }) && (len(other.Carry) > 0 || len(other.Artifacts) > 0) {
			return
		}
	}
	at := r.stageAt[s.Name].At
	if e := r.stageAt[s.Name].Value.Entries["step"]; e != nil && i < len(e.Value.Items) {
		at = e.Value.Items[i].Entries["stamp"].At
	}
	r.add("S119", at, "stamp in the chain that carries or delivers the result", "stage %q stamps a file, and nothing of its chain is carried or delivered", s.Name)
}

// sends checks that what goes to an outlet is an artifact of this pipeline.
func (r *reader) sends(p *Pipeline, s *Stage) {
	var known []string
	for _, other := range p.Stages {
		for _, a := range other.Artifacts {
			known = append(known, string(a.Name))
		}
	}
	for i, step := range s.Steps {
		if step.Send == nil || step.Send.Artifact == "" || slices.Contains(known, string(step.Send.Artifact)) {
			continue
		}
		n := r.stageAt[s.Name].Value.Entries["step"].Value.Items[i].Entries["send"].Value
		r.add("S104", n.Entries["artifact"].Value.At, suggest(string(step.Send.Artifact), known, "it delivers "), "the pipeline delivers no artifact %q", step.Send.Artifact)
	}
}

// exports refuses a name that two stages export.
func (r *reader) exports(p *Pipeline) {
	by := map[string]artifact.Name{}
	for _, s := range p.Stages {
		for _, name := range s.Exports {
			if other, ok := by[name]; ok {
				r.add("S106", r.itemAt(s.Name, "exports", name), "give each its own name", "stages %q and %q both export %q", other, s.Name, name)
			}
			by[name] = s.Name
		}
	}
}

// runs refuses more stage runs than a build may have, before they are made.
func (r *reader) runs(p *Pipeline) {
	total := 0
	for i := range p.Stages {
		s := &p.Stages[i]
		n := p.variations(s)
		if n <= MostRuns {
			n = len(p.Variants(s))
		}
		total += n
		if n > MostRuns {
			r.add("S115", r.keyAt(s.Name, "vary"), "vary over fewer values, or split the pipeline", "stage %q has %d variants; a build has at most %d stage runs", s.Name, n, MostRuns)
			return
		}
	}
	if total > MostRuns {
		r.add("S115", r.stageAt[p.Stages[0].Name].At, "vary over fewer values, or split the pipeline", "all stages with their variants are %d stage runs; a build has at most %d", total, MostRuns)
	}
}

func (r *reader) circles(p *Pipeline) {
	const fresh, open, done = 0, 1, 2
	state := map[artifact.Name]int{}
	var path []string
	var visit func(artifact.Name) bool
	visit = func(name artifact.Name) bool {
		s, ok := p.Stage(name)
		if !ok || state[name] == done {
			return false
		}
		path = append(path, string(name))
		if state[name] == open {
			from := slices.Index(path, string(name))
			r.add("S105", r.stageAt[name].At, "one of them must not wait", "stages wait for each other in a circle: %s", strings.Join(path[from:], " → "))
			return true
		}
		state[name] = open
		for _, parent := range s.parents() {
			if parent != name && visit(parent) {
				return true
			}
		}
		state[name] = done
		path = path[:len(path)-1]
		return false
	}
	for _, s := range p.Stages {
		if state[s.Name] == fresh && visit(s.Name) {
			return
		}
	}
}

// chainFacts refuses a chain whose stages' demands cannot hold on one agent.
func (r *reader) chainFacts(p *Pipeline) {
	if r.list.Errors() > 0 {
		return
	}
	for i := range p.Stages {
		s := &p.Stages[i]
		if s.Follows == "" {
			continue
		}
		before, _ := p.Stage(s.Follows)
		if _, err := before.Facts.Join(s.Facts); err != nil {
			r.fault("S110", r.keyAt(s.Name, "facts"), err)
		}
	}
}

// fileNames refuses two packed files of one artifact under the same name. A stage in variants must
// give each its own.
func (r *reader) fileNames(p *Pipeline) {
	seen := map[string]artifact.Name{}
	for i := range p.Stages {
		s := &p.Stages[i]
		e := r.stageAt[s.Name].Value.Entries["artifact"]
		for i, a := range s.Artifacts {
			if a.File == "" || a.Store == "" {
				continue
			}
			key := path.Join(string(a.Store), string(a.Name), a.File)
			if other, ok := seen[key]; ok {
				r.add("S106", e.Value.Items[i].At, "give each its own `file`", "stages %q and %q both deliver %q into %s/%s", other, s.Name, a.File, a.Store, a.Name)
			}
			seen[key] = s.Name
			if axes := p.Axes(s); len(axes) > 0 && !strings.Contains(a.File+string(a.Name), "{vary.") && p.variations(s) <= MostRuns && len(p.Variants(s)) > 1 {
				r.add("S106", e.Value.Items[i].At, fmt.Sprintf("write {vary.%s} into `file`", axes[0]), "every variant of stage %q delivers %q into %s/%s", s.Name, a.File, a.Store, a.Name)
			}
		}
	}
}

// meeting warns of two stages that may carry the same path to one that comes after both.
func (r *reader) meeting(p *Pipeline) {
	for i := range p.Stages {
		s := &p.Stages[i]
		type carried struct {
			from    artifact.Name
			pattern string
		}
		var all []carried
		for _, name := range s.After {
			parent, ok := p.Stage(name)
			if !ok {
				continue
			}
			for _, before := range p.chain(parent) {
				for _, pattern := range before.Carry {
					if !strings.HasPrefix(pattern, "!") && !slices.Contains(all, carried{before.Name, pattern}) {
						all = append(all, carried{before.Name, pattern})
					}
				}
			}
		}
		for j, a := range all {
			for _, b := range all[:j] {
				if a.from != b.from && files.Meet(a.pattern, b.pattern) {
					r.add("W208", r.itemAt(a.from, "carry", a.pattern), "carry them from different directories", "stages %q and %q may both carry the same path to %q (%s, %s); different bytes there fail the build", b.from, a.from, s.Name, b.pattern, a.pattern)
					break
				}
			}
		}
	}
}
