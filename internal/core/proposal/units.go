package proposal

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/document"
	"oskeld.dev/oskeld/internal/core/language"
)

// tool is a build tool: how it is known, and what it proposes for a directory.
type tool struct {
	short   string // for names
	title   string // for people
	marks   func(base string) bool
	nested  bool // a directory below another of the tool is its own
	propose func(*draft)
}

// unit is a directory and the tool by which it is built.
type unit struct {
	dir  string // "" for the top
	tool *tool
	mark string // the name of the file by which it is known
}

func (u unit) String() string { return u.tool.title + " (" + path.Join(u.dir, u.mark) + ")" }

func named(names ...string) func(string) bool {
	return func(base string) bool { return slices.Contains(names, base) }
}

// tools in the order in which they are looked for.
var tools = []*tool{
	{"go", "a Go workspace", named("go.work"), false, goProposal},
	{"go", "a Go module", named("go.mod"), true, goProposal},
	{"js", "a JavaScript package", named("package.json"), false, javaScript},
	{"cargo", "a Cargo package", named("Cargo.toml"), false, cargo},
	{"python", "a Python project", named("pyproject.toml", "setup.py", "setup.cfg", "requirements.txt"), false, python},
	{"maven", "a Maven project", named("pom.xml"), false, maven},
	{"gradle", "a Gradle build", named("settings.gradle", "settings.gradle.kts", "build.gradle", "build.gradle.kts"), false, gradle},
	{"dotnet", "a .NET solution", func(base string) bool {
		return strings.HasSuffix(base, ".sln") || strings.HasSuffix(base, ".slnx") || strings.HasSuffix(base, ".csproj") || strings.HasSuffix(base, ".fsproj")
	}, false, dotnet},
	{"cmake", "a CMake project", named("CMakeLists.txt"), false, cmake},
	{"make", "a makefile", named("Makefile", "makefile", "GNUmakefile"), false, makefile},
}

// elsewhere are directories that hold what others wrote, or what was built.
var elsewhere = []string{"node_modules", "vendor", "third_party", "target", "build", "dist", "out", "bin", "obj", "testdata", "examples", "example", "fixtures", ".git", ".oskeld", ".venv", "venv"}

// MostUnits is for how many directories stages are proposed.
const MostUnits = 12

// units finds what the source is built with: the topmost directories first.
func (m *maker) units() []unit {
	var found []unit
	names := slices.Clone(m.tree.Names)
	slices.SortStableFunc(names, func(a, b string) int { return strings.Count(a, "/") - strings.Count(b, "/") })
	for _, name := range names {
		dir, base := path.Split(name)
		dir = strings.TrimSuffix(dir, "/")
		if slices.ContainsFunc(strings.Split(dir, "/"), func(part string) bool { return slices.Contains(elsewhere, part) }) {
			continue
		}
		for _, t := range tools {
			if t.marks(base) && !covered(found, t, dir) && m.builds(t, name) {
				found = append(found, unit{dir, t, base})
			}
		}
	}
	found = m.withoutWrappers(found)
	slices.SortStableFunc(found, func(a, b unit) int { return strings.Compare(a.dir, b.dir) })
	if len(found) > MostUnits {
		m.note("%d directories can be built by themselves; stages are proposed for the first %d", len(found), MostUnits)
		found = found[:MostUnits]
	}
	return found
}

// covered tells whether a directory is part of a unit that is found already.
func covered(found []unit, t *tool, dir string) bool {
	return slices.ContainsFunc(found, func(u unit) bool {
		below := u.dir == "" || dir == u.dir || strings.HasPrefix(dir, u.dir+"/")
		switch {
		case u.tool == t:
			return dir == u.dir || below && !t.nested
		case u.tool.short == t.short: // modules of a workspace
			return below
		}
		return false
	})
}

// builds tells whether a file that marks a tool surely has something to build.
func (m *maker) builds(t *tool, name string) bool {
	if t.short != "cmake" && t.short != "make" {
		return true
	}
	text, err := m.tree.Read(name)
	return err == nil && (t.short != "cmake" || strings.Contains(string(text), "project")) && len(strings.TrimSpace(string(text))) > 0
}

// withoutWrappers settles directories that a makefile and another tool both build.
func (m *maker) withoutWrappers(found []unit) []unit {
	return slices.DeleteFunc(slices.Clone(found), func(u unit) bool {
		if u.tool.short != "make" {
			return slices.ContainsFunc(found, func(other unit) bool {
				return other.tool.short == "make" && other.dir == u.dir && m.options.Answers[wrapperKey(u.dir)] == "make"
			})
		}
		for _, other := range found {
			if other.dir == u.dir && other.tool.short != "make" {
				key := wrapperKey(u.dir)
				return m.ask(key, fmt.Sprintf("%s holds a makefile and %s: by which is it built?", at(u.dir), other.tool.title), other.tool.short, "make") != "make"
			}
			if other.tool.short == "cmake" && (other.dir == "" || strings.HasPrefix(u.dir, other.dir+"/")) {
				return true // what CMake wrote
			}
		}
		return false
	})
}

func wrapperKey(dir string) string {
	if dir == "" {
		return "tool"
	}
	return "tool:" + dir
}

func at(dir string) string {
	if dir == "" {
		return "the top of the source"
	}
	return dir
}

// draft is the proposal for one unit.
type draft struct {
	*maker
	unit
	alone  bool
	stages []stage
	made   []string // what builds lay into the working tree
	facts  []string // pairs of TOML, as `go = ">=1.22"`
	cache  string
}

// has tells whether the unit's directory has a file.
func (d *draft) has(name string) bool { return d.index[path.Join(d.dir, name)] }

// read reads a file of the unit's directory, "" where there is none.
func (d *draft) read(name string) string {
	if !d.has(name) {
		return ""
	}
	text, err := d.tree.Read(path.Join(d.dir, name))
	if err != nil {
		return ""
	}
	return string(text)
}

// any gives the first file below the unit's directory that fits.
func (d *draft) any(fits func(name string) bool) (string, bool) {
	prefix := ""
	if d.dir != "" {
		prefix = d.dir + "/"
	}
	for _, name := range d.tree.Names {
		if inner, ok := strings.CutPrefix(name, prefix); ok && fits(inner) {
			return inner, true
		}
	}
	return "", false
}

// fact notes a demand on the agent.
func (d *draft) fact(name, want string) {
	d.facts = append(d.facts, name+" = "+document.Quote(want))
}

// caches notes directories that are found again by the digest of files.
func (d *draft) caches(dirs, by []string) {
	for i, dir := range dirs {
		if !strings.HasPrefix(dir, "~/") {
			dirs[i] = path.Join(d.dir, dir)
		}
	}
	for i := range by {
		by[i] = path.Join(d.dir, by[i])
	}
	d.cache = "[{ dirs = " + document.QuoteAll(dirs) + ", by = " + document.QuoteAll(by) + " }]"
}

// add adds a stage with a script. The first one bears the facts and the cache.
func (d *draft) add(purpose language.Purpose, why, script string, more ...line) *stage {
	s := stage{purpose: purpose, why: why}
	if len(d.facts) > 0 && len(d.stages) == 0 {
		s.lines = append(s.lines, line{"facts", "{ " + strings.Join(d.facts, ", ") + " }", ""})
	}
	if d.cache != "" && len(d.stages) == 0 {
		s.lines = append(s.lines, line{"cache", d.cache, "found again until a lock file changes"})
	}
	if script != "" {
		s.lines = append(s.lines, line{"script", scriptText(script), ""})
	}
	s.lines = append(s.lines, more...)
	d.stages = append(d.stages, s)
	return &d.stages[len(d.stages)-1]
}

func scriptText(script string) string {
	if !strings.Contains(script, "\n") {
		return document.Quote(script)
	}
	return "'''\n" + strings.TrimSuffix(script, "\n") + "\n'''"
}

// reports says where a test stage's reports are.
func (d *draft) reports(patterns ...string) line {
	d.made = append(d.made, patterns...)
	return line{"read", "{ tests = " + document.QuoteAll(patterns) + " }", "a test stage that reads no test fails"}
}

// noReport softens the duty of a test stage whose tool writes no report that can be read.
func noReport(why string) line { return line{"duty", `"warn"`, why} }

// deliver adds an artifact to a stage.
func (d *draft) deliver(s *stage, lines ...line) {
	name := safeName(d.tree.Name)
	if !d.alone {
		name += "-" + d.suffix()
	}
	store := d.options.Store
	why := ""
	if store == "" {
		store, why = "intake", "the store that takes it: oskeld store list shows what there is"
	}
	s.artifacts = append(s.artifacts, append(append([]line{{"name", document.Quote(name), ""}}, lines...), line{"store", document.Quote(store), why}))
}

// root is an artifact's directory, which counts from the top of the source.
func (d *draft) root(dir string) line {
	if dir != "" {
		d.made = append(d.made, dir+"/")
	}
	return line{"root", document.Quote(path.Join(d.dir, dir)), ""}
}

func filesOf(patterns ...string) line { return line{"files", document.QuoteAll(patterns), ""} }

var packed = line{"pack", `"zip"`, ""}
