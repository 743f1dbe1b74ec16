package proposal

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"oskeld.dev/oskeld/internal/core/document"
	"oskeld.dev/oskeld/internal/core/language"
)

var (
	goDirective   = regexp.MustCompile(`(?m)^go\s+(\d+\.\d+(?:\.\d+)?)`)
	goUses        = regexp.MustCompile(`(?m)^\s*(?:use\s+)?\(?\s*(\./[^\s)]*|\.)\s*\)?$`)
	makeTarget    = regexp.MustCompile(`(?m)^([A-Za-z0-9_.-]+)\s*:([^=]|$)`)
	cmakeMinimum  = regexp.MustCompile(`(?i)cmake_minimum_required\s*\(\s*VERSION\s+(\d+\.\d+)`)
	cmakeTesting  = regexp.MustCompile(`(?i)\b(enable_testing|add_test|include\s*\(\s*CTest)\b`)
	cmakePackages = regexp.MustCompile(`(?i)include\s*\(\s*CPack\s*\)`)
)

func goProposal(d *draft) {
	version := "1.22"
	if m := goDirective.FindStringSubmatch(d.read(d.mark)); m != nil {
		version = m[1]
	}
	d.fact("go", ">="+version)
	pattern, restore := "./...", "go mod download"
	if d.mark == "go.work" {
		var parts []string
		for _, m := range goUses.FindAllStringSubmatch(d.read("go.work"), -1) {
			parts = append(parts, "./"+strings.TrimPrefix(path.Join(m[1], "..."), "./"))
		}
		if len(parts) > 0 {
			pattern = strings.Join(parts, " ")
		}
	}
	sums := []string{"go.sum"}
	if d.mark == "go.work" {
		sums = []string{"**/go.sum"}
	}
	if _, ok := d.any(func(name string) bool { return path.Base(name) == "go.sum" }); ok {
		d.caches([]string{"~/go/pkg/mod", "~/.cache/go-build"}, sums)
		d.add(language.Restore, "modules are fetched once, and checked against go.sum", restore)
	}
	mains := d.goMains()
	if len(mains) > 0 {
		d.add(language.Compile, "-trimpath keeps this machine's paths out of the programs, so that the same source gives the same bytes",
			"go build -trimpath -o out/ "+strings.Join(mains, " "))
	} else {
		d.add(language.Compile, "a library: it compiles, and vet finds nothing", "go vet "+pattern)
	}
	if _, ok := d.any(func(name string) bool { return strings.HasSuffix(name, "_test.go") }); ok {
		d.add(language.Test, "", "go test -json "+pattern+" > tests.json", d.reports("tests.json"))
	} else {
		d.note("%s has no tests, so no test stage is proposed", at(d.dir))
	}
	s := d.add(language.Package, "", "")
	if len(mains) > 0 {
		d.deliver(s, d.root("out"), packed)
	} else {
		d.deliver(s, append(d.rootIfBelow(), filesOf("**/*.go", "go.mod", "go.sum", "README*", "LICENSE*", "!**/*_test.go"), packed)...)
	}
}

func (d *draft) rootIfBelow() []line {
	if d.dir == "" {
		return nil
	}
	return []line{d.root("")}
}

// goMains are the directories of programs: those below cmd, and the top if it is one.
func (d *draft) goMains() (list []string) {
	for _, name := range d.tree.Names {
		inner := name
		if d.dir != "" {
			var ok bool
			if inner, ok = strings.CutPrefix(name, d.dir+"/"); !ok {
				continue
			}
		}
		dir := path.Dir(inner)
		place := "./" + dir
		if dir == "." {
			place = "."
		}
		if path.Base(inner) != "main.go" || strings.Contains(inner, "testdata/") || slices.Contains(list, place) {
			continue
		}
		if text := d.read(inner); strings.Contains(text, "package main") && !strings.Contains(text, "//go:build ignore") {
			list = append(list, place)
		}
		if len(list) > 6 {
			break
		}
	}
	if len(list) > 6 || slices.ContainsFunc(list, func(place string) bool { return strings.Contains(place, " ") }) {
		return []string{"./..."}
	}
	return list
}

func makefile(d *draft) {
	text := d.read(d.mark)
	targets := map[string]bool{}
	for _, m := range makeTarget.FindAllStringSubmatch(text, -1) {
		targets[m[1]] = true
	}
	first := func(names ...string) string {
		for _, n := range names {
			if targets[n] {
				return n
			}
		}
		return ""
	}
	d.fact("os", "linux")
	if strings.Contains(text, "gcc") || strings.Contains(text, "$(CC)") {
		d.facts = append(d.facts, `gcc = ">=9"`)
	}
	if deps := first("deps", "restore", "vendor"); deps != "" {
		d.add(language.Restore, "", "make "+deps)
	}
	d.add(language.Compile, "", strings.TrimSpace("make "+first("all", "build", "compile")))
	if test := first("check", "test", "tests"); test != "" {
		d.add(language.Test, "", "make "+test, noReport("a makefile says not where its report is: name it under read = { tests = [...] }"))
	}
	out := d.ask("out"+suffixKey(d.dir), "where does the makefile of "+at(d.dir)+" put what it makes?", d.outputs("out", "build", "dist", "bin")...)
	if dist := first("dist", "package"); dist != "" {
		s := d.add(language.Package, "", "make "+dist)
		d.deliver(s, d.root(out), packed)
		return
	}
	s := d.add(language.Package, "", "")
	d.deliver(s, d.root(out), packed)
}

func suffixKey(dir string) string {
	if dir == "" {
		return ""
	}
	return ":" + dir
}

// outputs sorts directories so that those which the makefile or .gitignore names stand first.
func (d *draft) outputs(dirs ...string) []string {
	text := d.read(d.mark) + "\n" + d.read(".gitignore")
	slices.SortStableFunc(dirs, func(a, b string) int {
		return strings.Count(text, b+"/") - strings.Count(text, a+"/")
	})
	return dirs
}

func cmake(d *draft) {
	text := d.read(d.mark)
	version := "3.16"
	if m := cmakeMinimum.FindStringSubmatch(text); m != nil {
		version = m[1]
	}
	tests := cmakeTesting.MatchString(text)
	if tests && (len(version) < 4 || version < "3.21") {
		version = "3.21" // the first that writes JUnit XML
	}
	d.fact("cmake", ">="+version)
	d.add(language.Compile, "", "cmake -S . -B out -DCMAKE_BUILD_TYPE=Release\ncmake --build out --parallel")
	if tests {
		d.add(language.Test, "", "ctest --test-dir out --output-on-failure --output-junit report.xml", d.reports("out/report.xml"))
	}
	if cmakePackages.MatchString(text) {
		s := d.add(language.Package, "", "cpack --config out/CPackConfig.cmake -B out/pack")
		d.deliver(s, d.root("out/pack"), filesOf("*"))
		return
	}
	s := d.add(language.Package, "what `install` puts in place is what ships", "cmake --install out --prefix out/install")
	d.deliver(s, d.root("out/install"), packed)
}

type cargoFile struct {
	Package struct {
		Name string
		Rust string `toml:"rust-version"`
	}
	Bin       []struct{ Name string }
	Workspace *struct {
		Package struct {
			Rust string `toml:"rust-version"`
		}
	}
}

var rustVersion = regexp.MustCompile(`\d+\.\d+(\.\d+)?`)

func cargo(d *draft) {
	var c cargoFile
	_ = toml.Unmarshal([]byte(d.read("Cargo.toml")), &c) // what it does not say has usual values
	version := c.Package.Rust
	if version == "" && c.Workspace != nil {
		version = c.Workspace.Package.Rust
	}
	if pinned := rustVersion.FindString(d.read("rust-toolchain.toml") + d.read("rust-toolchain")); pinned != "" {
		version = pinned
	}
	if version == "" {
		version = "1.70"
	}
	d.fact("cargo", ">="+version)
	locked := ""
	if d.has("Cargo.lock") {
		locked = " --locked"
		d.caches([]string{"~/.cargo/registry", "target"}, []string{"Cargo.lock"})
	} else {
		d.note("%s has no Cargo.lock, so each build may get other versions: commit one", at(d.dir))
	}
	d.add(language.Restore, "", "cargo fetch"+locked)
	d.add(language.Compile, "", "cargo build --release"+locked)
	d.add(language.Test, "", "cargo test --release"+locked, noReport("cargo writes no report that can be read by itself; a runner that writes JUnit XML is read under `read`"))
	s := d.add(language.Package, "", "")
	var bins []string
	for _, b := range c.Bin {
		bins = append(bins, b.Name)
	}
	if len(bins) == 0 && d.has("src/main.rs") && c.Package.Name != "" {
		bins = []string{c.Package.Name}
	}
	if len(bins) == 0 && c.Package.Name != "" {
		s.lines = append(s.lines, line{"script", document.Quote("cargo package" + locked + " --no-verify --allow-dirty"), ""})
		d.deliver(s, d.root("target/package"), filesOf("*.crate"))
		return
	}
	if len(bins) == 0 {
		bins = []string{"*", "!*.d", "!*.rlib"}
	}
	d.deliver(s, d.root("target/release"), filesOf(bins...), packed)
}
