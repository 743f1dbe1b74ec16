package language

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/files"
)

// MostStages is how many stages a file may have.
const MostStages = 1000

func (r *reader) stages(p *Pipeline, n *node) {
	if len(n.keys) > MostStages {
		r.add("S102", n.at, "", "%d stages; at most %d are allowed", len(n.keys), MostStages)
		return
	}
	if len(n.keys) == 0 {
		r.add("S103", n.at, "write [stage.compile] and a script", "there is no stage")
	}
	for _, key := range n.keys {
		e := n.entries[key]
		name, err := artifact.ParseName("stage", key)
		if err != nil {
			r.fault("S102", e.at, err)
			continue
		}
		if e.value.kind != tableKind {
			r.add("S102", e.at, "write [stage."+key+"]", "stage %q takes a table", key)
			continue
		}
		s := Stage{Name: name, Purpose: Other, Duty: DutyFail}
		if slices.Contains(purposes, key) {
			s.Purpose = Purpose(key)
		}
		r.stageAt[name] = e
		fill(r, &s, e.value, stageShape, "stage "+key)
		r.implied(p, &s, e)
		p.Stages = append(p.Stages, s)
	}
}

// implied settles what a stage does not say: it follows the stage above.
func (r *reader) implied(p *Pipeline, s *Stage, e *entry) {
	keys := e.value.entries
	if keys["after"] != nil && keys["follows"] != nil {
		r.add("S112", keys["follows"].at, "keep one", "stage %q says both `after` and `follows`", s.Name)
	}
	if keys["script"] != nil && keys["step"] != nil {
		r.add("S112", keys["script"].at, "make the script a step of its own", "stage %q has both `script` and steps", s.Name)
	}
	if keys["after"] == nil && keys["follows"] == nil && len(p.Stages) > 0 {
		s.Follows = p.Stages[len(p.Stages)-1].Name
	}
}

func (r *reader) steps(s *Stage, n *node) {
	for i, item := range n.items {
		var step Step
		fill(r, &step, item, stepShape, fmt.Sprintf("step %d of stage %s", i+1, s.Name))
		s.Steps = append(s.Steps, step)
	}
}

func (r *reader) artifacts(s *Stage, n *node) {
	for i, item := range n.items {
		a := Artifact{Pack: PackNone, Duty: DutyFail}
		fill(r, &a, item, artifactShape, fmt.Sprintf("artifact %d of stage %s", i+1, s.Name))
		switch e := item.entries["file"]; {
		case a.Pack == PackNone && e != nil && len(a.Files) != 1:
			r.add("S112", e.at, "say pack = \"zip\", or name exactly one pattern in files", "`file` names one file, and nothing packs these into one")
		case a.Pack != PackNone && a.File == "" && a.Name != "":
			a.File = string(a.Name) + "-{version}." + string(a.Pack)
		}
		s.Artifacts = append(s.Artifacts, a)
	}
}

// across checks what only all stages together can tell.
func (r *reader) across(p *Pipeline) {
	known := make([]string, len(p.Stages))
	for i, s := range p.Stages {
		known[i] = string(s.Name)
	}
	used := map[string]bool{}
	for i := range p.Stages {
		s := &p.Stages[i]
		r.needs(s, known)
		r.duties(s)
		for _, secret := range s.Secrets {
			used[secret] = true
			if !slices.Contains(p.Secrets, secret) {
				advice := "add it to secrets at the top of the file"
				if near := files.Closest(secret, p.Secrets); near != "" {
					advice = fmt.Sprintf("did you mean %q?", near)
				}
				r.add("S111", r.itemAt(s.Name, "secrets", secret), advice, "stage %q wants secret %q, which the pipeline does not name", s.Name, secret)
			}
		}
	}
	r.circles(p)
	r.chainFacts(p)
	r.fileNames(p)
	if len(p.Stages) > 0 {
		for _, secret := range p.Secrets {
			if !used[secret] {
				r.add("W201", r.quoted(secret), "name it under `secrets` of the stage that needs it", "secret %q is named and no stage uses it", secret)
			}
		}
	}
}

// itemAt is the place of a text in a list of a stage.
func (r *reader) itemAt(stage artifact.Name, key, text string) span {
	e := r.stageAt[stage]
	if list := e.value.entries[key]; list != nil {
		for _, item := range append([]*node{list.value}, list.value.items...) {
			if item.kind == textKind && item.text == text {
				return item.at
			}
		}
		return list.at
	}
	return e.at
}

// quoted is the first place where a text stands in quotes.
func (r *reader) quoted(text string) span {
	for _, q := range []string{`"`, `'`} {
		if i := strings.Index(r.text, q+text+q); i >= 0 {
			return span{i, len(text) + 2}
		}
	}
	return span{0, 1}
}

func (r *reader) needs(s *Stage, known []string) {
	check := func(key string, verb string, name artifact.Name) {
		at := r.itemAt(s.Name, key, string(name))
		switch {
		case name == s.Name:
			r.add("S105", at, "", "stage %q %s itself", s.Name, verb)
		case !slices.Contains(known, string(name)):
			advice := "stages: " + strings.Join(known[:min(20, len(known))], ", ")
			if near := files.Closest(string(name), known); near != "" {
				advice = fmt.Sprintf("did you mean %q?", near)
			}
			r.add("S104", at, advice, "stage %q %s %q, which does not exist", s.Name, verb, name)
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
	at := r.stageAt[s.Name].at
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

// parents are the stages that a stage waits for.
func (s *Stage) parents() []artifact.Name {
	if s.Follows != "" {
		return append([]artifact.Name{s.Follows}, s.After...)
	}
	return s.After
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
			r.add("S105", r.stageAt[name].at, "one of them must not wait", "stages wait for each other in a circle: %s", strings.Join(path[from:], " → "))
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
			at := r.stageAt[s.Name].at
			if e := r.stageAt[s.Name].value.entries["facts"]; e != nil {
				at = e.at
			}
			r.fault("S110", at, err)
		}
	}
}

// fileNames refuses two packed files of one artifact under the same name, and warns of two tables
// that surely meet.
func (r *reader) fileNames(p *Pipeline) {
	seen := map[string]artifact.Name{}
	for _, s := range p.Stages {
		e := r.stageAt[s.Name].value.entries["artifact"]
		for i, a := range s.Artifacts {
			if a.File == "" || a.Store == "" {
				continue
			}
			key := path.Join(string(a.Store), string(a.Name), a.File)
			if other, ok := seen[key]; ok {
				r.add("S106", e.value.items[i].at, "give each its own `file`", "stages %q and %q both deliver %q into %s/%s", other, s.Name, a.File, a.Store, a.Name)
			}
			seen[key] = s.Name
		}
	}
}
