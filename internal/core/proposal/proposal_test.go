package proposal

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/language"
)

func tree(files map[string]string) Tree {
	return Tree{Name: "hivebook", Names: slices.Sorted(maps.Keys(files)), Read: func(name string) ([]byte, error) {
		text, ok := files[name]
		if !ok {
			return nil, errors.New("not there")
		}
		return []byte(text), nil
	}}
}

// Of each kind of source: what is proposed stands in the file, and the reader takes it without a word.
func TestMake(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  []string
	}{
		"Go program": {map[string]string{"go.mod": "module x\n\ngo 1.23.1\n", "go.sum": "", "cmd/hivebook/main.go": "package main\n", "hive_test.go": ""},
			[]string{`go = ">=1.23.1"`, `script = "go mod download"`, `by = ["go.sum"]`, "go build -trimpath -o out/ ./cmd/hivebook", "go test -json ./... > tests.json", `root  = "out"`}},
		"Go library": {map[string]string{"go.mod": "module x\ngo 1.22\n", "a.go": "package x"}, []string{"go vet ./...", `"**/*.go"`, "purpose"[:0]}},
		"Go workspace": {map[string]string{"go.work": "go 1.24\n\nuse (\n\t./a\n\t./b\n)\n", "a/go.mod": "module a\ngo 1.24\n", "a/main.go": "package main", "b/go.mod": "module b\n", "b/go.sum": "", "b/b_test.go": ""},
			[]string{`go = ">=1.24"`, "go test -json ./a/... ./b/...", `by = ["**/go.sum"]`, "./a"}},
		"npm": {map[string]string{"package.json": `{"name":"@heath/bloom","engines":{"node":">=20"},"scripts":{"build":"node build.js","test":"node --test"}}`, "package-lock.json": "{}"},
			[]string{`node = ">=20"`, `script = "npm ci"`, "npm run build", "--test-reporter=junit", "npm pack --pack-destination out", `files = ["*.tgz"]`}},
		"pnpm, private": {map[string]string{"package.json": `{"name":"a","private":true,"scripts":{"build":"vite build","test":"vitest"},"dependencies":{"x":"1"}}`, "pnpm-lock.yaml": "", ".nvmrc": "v22.3.0\n"},
			[]string{`node = ">=22.3.0"`, "pnpm install --frozen-lockfile", "npx vitest run --reporter=junit", `root  = "dist"`}},
		"yarn": {map[string]string{"package.json": `{"scripts":{"test":"jest"},"devDependencies":{"jest-junit":"1"}}`, "yarn.lock": "# yarn lockfile v1"},
			[]string{"yarn install --frozen-lockfile", "--reporters=jest-junit", "junit.xml"}},
		"make": {map[string]string{"Makefile": "CC = gcc\nall: out/scale\ncheck:\n\tsh test.sh\nclean:\n\trm -rf out/\n", "src/scale.c": ""},
			[]string{`script = "make all"`, `script = "make check"`, `duty   = "warn"`, `root  = "out"`}},
		"CMake": {map[string]string{"CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(scale C)\nenable_testing()\nadd_test(a b)\ninclude(CPack)\n", "lib/CMakeLists.txt": "project(lib)"},
			[]string{`cmake = ">=3.21"`, "cmake -S . -B out", "--output-junit report.xml", "cpack", `root  = "out/pack"`}},
		"Cargo": {map[string]string{"Cargo.toml": "[package]\nname = \"scale\"\nrust-version = \"1.74\"\n", "Cargo.lock": "", "src/main.rs": ""},
			[]string{`cargo = ">=1.74"`, "cargo fetch --locked", "cargo build --release --locked", `files = ["scale"]`, `by = ["Cargo.lock"]`}},
		"Cargo library": {map[string]string{"Cargo.toml": "[package]\nname = \"scale\"\n", "src/lib.rs": ""}, []string{"cargo package --no-verify", "*.crate"}},
		"Python": {map[string]string{"pyproject.toml": "[project]\nname = \"smoker\"\nrequires-python = \">=3.10\"\ndependencies = [\"x\"]\n[tool.pytest.ini_options]\n", "tests/test_a.py": ""},
			[]string{`python3 = ">=3.10"`, "python3 -m venv .venv", "install -e . pytest", "-m pytest --junitxml=report.xml", "pip wheel . --no-deps"}},
		"Python scripts": {map[string]string{"requirements.txt": "x==1\n", "a.py": "", "test/test_a.py": ""}, []string{"install -r requirements.txt", "-m unittest discover -s test", `"**/*.py"`}},
		"Maven": {map[string]string{"pom.xml": "<project><properties><maven.compiler.release>21</maven.compiler.release></properties></project>", "core/pom.xml": "<project/>", "core/src/test/java/A.java": "", "mvnw": ""},
			[]string{`java = ">=21"`, "./mvnw -B -ntp test-compile", "TEST-*.xml", `"**/target/*.jar"`, "flat"}},
		"Gradle": {map[string]string{"settings.gradle.kts": "", "build.gradle.kts": "java { toolchain { languageVersion = JavaLanguageVersion.of(21) } }", "gradlew": "", "app/build.gradle.kts": "", "app/src/test/java/A.java": ""},
			[]string{`java = ">=21"`, "./gradlew --no-daemon test", "**/build/test-results/**/*.xml"}},
		".NET": {map[string]string{"Hive Book.sln": "", "app/App.csproj": "<TargetFramework>net8.0</TargetFramework>", "tests/App.Tests.csproj": "JunitXml.TestLogger", "tests/A.Tests.cs": ""},
			[]string{`dotnet = ">=8.0"`, "dotnet restore 'Hive Book.sln'", "junit;LogFilePath=report.xml", "dotnet publish"}},
		"two in one tree": {map[string]string{"api/go.mod": "module api\ngo 1.22\n", "api/main.go": "package main", "web/package.json": `{"private":true,"scripts":{"build":"x"}}`, "web/package-lock.json": "", "web/node_modules/y/package.json": "{}"},
			[]string{"[stage.compile-api]", `in      = "api"`, `purpose = "compile"`, "[stage.restore-web]", "after   = []", `root  = "web/dist"`, `by = ["web/package-lock.json"]`, `name  = "hivebook-web"`}},
		"nothing known": {map[string]string{"README.md": ""}, []string{"say here how it is built"}},
		"an odd name":   {map[string]string{"Makefile": "all:\n"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			source := tree(c.files)
			if name == "an odd name" {
				source.Name = "../Größe \"x\"\n"
			}
			for _, o := range []Options{{}, {All: true, Store: "heath"}} {
				p := Make(source, o)
				if read, ds := language.Read("oskeld.toml", []byte(p.Text)); read == nil || len(ds) > 0 {
					t.Errorf("the reader says\n%s of\n%s", ds.Text(), p.Text)
				}
				for _, want := range c.want {
					if !strings.Contains(p.Text, want) {
						t.Errorf("%q does not stand in\n%s", want, p.Text)
					}
				}
				if o.All != strings.Contains(p.Text, "# tries = 2") {
					t.Errorf("rare settings: %v\n%s", o.All, p.Text)
				}
			}
		})
	}
}

func TestQuestions(t *testing.T) {
	files := map[string]string{"go.mod": "module x\ngo 1.22\n", "main.go": "package main", "Makefile": "all:\n"}
	p := Make(tree(files), Options{})
	if len(p.Questions) != 1 || p.Questions[0].Key != "tool" || p.Questions[0].Chosen != "go" || !p.Questions[0].Open || !strings.Contains(p.Text, "go build") {
		t.Errorf("%+v\n%s", p.Questions, p.Text)
	}
	p = Make(tree(files), Options{Answers: map[string]string{"tool": "make", "out": "bin"}})
	if strings.Contains(p.Text, "go build") || !strings.Contains(p.Text, `root  = "bin"`) || p.Questions[0].Open {
		t.Errorf("%+v\n%s", p.Questions, p.Text)
	}
}

func TestTagPattern(t *testing.T) {
	for tags, want := range map[string]string{"": "v* ", "v1.0.0 v1.1.0 other": "v* v1.1.0", "1.0 1.1": "[0-9]* 1.1", "scale-1.0 scale-1.1 v1.0": "scale-* scale-1.1", "release/1.2": "release/* release/1.2", "nightly-7": "v* "} {
		if pattern, example := tagPattern(strings.Fields(tags)); pattern+" "+example != want {
			t.Errorf("%q: %s %s", tags, pattern, example)
		}
	}
}

// A tree of 100,000 files is told in less than two seconds; go test -bench Make tells.
func BenchmarkMake(b *testing.B) {
	files := map[string]string{"go.mod": "module x\ngo 1.22\n", "web/package.json": "{}"}
	for i := range 100_000 {
		files[fmt.Sprintf("src/%d/%d/file%d.go", i%100, i%1000, i)] = ""
	}
	source := tree(files)
	for b.Loop() {
		Make(source, Options{})
	}
}

func FuzzMake(f *testing.F) {
	f.Add("go.mod", "go 1.22", "package.json", `{"scripts":{"test":"x"}}`)
	f.Add("a b/pom.xml", "<release>21<", "x.sln", "")
	f.Add("Makefile", "all:\n\tx", "Cargo.toml", "[package]\nname = 'x'")
	f.Fuzz(func(t *testing.T, one, oneText, two, twoText string) {
		p := Make(tree(map[string]string{one: oneText, two: twoText}), Options{All: true})
		if read, ds := language.Read("oskeld.toml", []byte(p.Text)); read == nil {
			t.Errorf("the reader says\n%s of\n%s", ds.Text(), p.Text)
		}
	})
}
