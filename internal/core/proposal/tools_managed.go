package proposal

import (
	"cmp"
	"encoding/json"
	"path"
	"regexp"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/pelletier/go-toml/v2"
	"oskeld.dev/oskeld/internal/core/document"
	"oskeld.dev/oskeld/internal/core/language"
)

type packageJSON struct {
	Name            string
	Private         bool
	Scripts         map[string]string
	Engines         map[string]string
	PackageManager  string
	Dependencies    map[string]string
	DevDependencies map[string]string
}

// managers of JavaScript packages by their lock file.
var managers = []struct{ lock, name, restore, cache string }{
	{"pnpm-lock.yaml", "pnpm", "pnpm install --frozen-lockfile", "~/.local/share/pnpm/store"},
	{"yarn.lock", "yarn", "yarn install --immutable", "~/.yarn/berry/cache"},
	{"package-lock.json", "npm", "npm ci", "~/.npm"},
	{"npm-shrinkwrap.json", "npm", "npm ci", "~/.npm"},
}

// range of versions that facts take: npm's own, where it is one.
func nodeRange(text string) string {
	text = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(text), "v"))
	if text == "" || strings.HasPrefix(text, "lts") {
		return ">=20"
	}
	if text[0] >= '0' && text[0] <= '9' && !strings.Contains(text, "||") && !strings.Contains(text, " ") {
		return ">=" + strings.TrimSuffix(text, ".x")
	}
	if _, err := semver.NewConstraint(text); err != nil || !strings.ContainsAny(text[:1], "<>=^~!") {
		return ">=20"
	}
	return text
}

func javaScript(d *draft) {
	var p packageJSON
	if err := json.Unmarshal([]byte(d.read("package.json")), &p); err != nil {
		d.note("%s cannot be read: %v", path.Join(d.dir, "package.json"), err)
	}
	manager := managers[2]
	manager.lock, manager.restore = "", "npm install"
	for _, m := range managers {
		if d.has(m.lock) {
			manager = m
			break
		}
	}
	if manager.name == "yarn" && !strings.Contains(d.read("yarn.lock"), "__metadata") {
		manager.restore, manager.cache = "yarn install --frozen-lockfile", "~/.cache/yarn"
	}
	d.fact("node", nodeRange(cmp.Or(p.Engines["node"], d.read(".nvmrc"), d.read(".node-version"))))
	if manager.name != "npm" {
		d.facts = append(d.facts, manager.name+` = ">=1"`)
	}
	needs := len(p.Dependencies)+len(p.DevDependencies) > 0
	switch {
	case manager.lock != "":
		d.caches([]string{manager.cache}, []string{manager.lock})
		d.add(language.Restore, "exactly what the lock file says", manager.restore)
	case needs:
		d.note("%s has no lock file, so each build may get other versions: commit one", at(d.dir))
		d.add(language.Restore, "without a lock file each build may get other versions", manager.restore)
	}
	if p.Scripts["build"] != "" {
		d.add(language.Compile, "", manager.name+" run build")
	}
	if test := p.Scripts["test"]; test != "" && !strings.Contains(test, "no test specified") {
		d.jsTests(manager.name, test, p)
	} else {
		d.note("%s has no test script, so no test stage is proposed", at(d.dir))
	}
	s := d.add(language.Package, "", "")
	out := "dist"
	if p.DevDependencies["react-scripts"] != "" || p.Dependencies["react-scripts"] != "" {
		out = "build"
	}
	if !p.Private && p.Name != "" {
		s.lines = append(s.lines, line{"script", scriptText("mkdir -p out\n" + manager.name + " pack --pack-destination out"), "the archive that the registry would get"})
		d.deliver(s, d.root("out"), filesOf("*.tgz"))
		return
	}
	if p.Scripts["build"] != "" {
		out = d.ask("out"+suffixKey(d.dir), "where does `"+manager.name+" run build` of "+at(d.dir)+" put what it makes?", out, "build", "out", "public")
		d.deliver(s, d.root(out), packed)
		return
	}
	d.deliver(s, append(d.rootIfBelow(), filesOf("**", "!node_modules/**", "!test/**"), packed)...)
}

// jsTests proposes the test stage with the report of the runner that is used.
func (d *draft) jsTests(manager, script string, p packageJSON) {
	has := func(name string) bool {
		return p.DevDependencies[name] != "" || p.Dependencies[name] != ""
	}
	switch {
	case strings.Contains(script, "node --test"):
		d.add(language.Test, "node's own runner writes JUnit XML", manager+" test",
			line{"env", `{ NODE_OPTIONS = "--test-reporter=junit --test-reporter-destination=report.xml" }`, ""}, d.reports("report.xml"))
	case strings.Contains(script, "vitest"):
		d.add(language.Test, "", "npx vitest run --reporter=junit --outputFile=report.xml", d.reports("report.xml"))
	case has("jest-junit"):
		d.add(language.Test, "", "npx jest --ci --reporters=default --reporters=jest-junit", d.reports("junit.xml"))
	case strings.Contains(script, "mocha"):
		d.add(language.Test, "", "npx mocha --reporter xunit --reporter-option output=report.xml", d.reports("report.xml"))
	default:
		d.add(language.Test, "", manager+" test", noReport("how its runner writes a report is not known: name the report under read = { tests = [...] }"))
	}
}

type pyproject struct {
	Project struct {
		Name         string
		Requires     string `toml:"requires-python"`
		Dependencies []string
		Optional     map[string][]string `toml:"optional-dependencies"`
	}
	Build map[string]any `toml:"build-system"`
}

var pythonVersion = regexp.MustCompile(`python_requires\s*=\s*["']?\s*([^"'\n,]+)`)

func python(d *draft) {
	var p pyproject
	_ = toml.Unmarshal([]byte(d.read("pyproject.toml")), &p) // what it does not say has usual values
	setup := d.read("setup.py") + d.read("setup.cfg")
	want := p.Project.Requires
	if m := pythonVersion.FindStringSubmatch(setup); want == "" && m != nil {
		want = strings.TrimSpace(m[1])
	}
	if pinned := strings.TrimSpace(d.read(".python-version")); want == "" && pinned != "" {
		want = ">=" + pinned
	}
	if _, err := semver.NewConstraint(want); err != nil || want == "" {
		want = ">=3.9"
	}
	d.fact("python3", want)
	run := "python3"
	test := d.dirOf("tests/", "test/")
	pytest := strings.Contains(d.read("pyproject.toml")+setup+d.read("requirements.txt")+d.read("requirements-dev.txt")+d.read("tox.ini"), "pytest") || d.has("pytest.ini") || d.has("conftest.py")
	var install []string
	for _, file := range []string{"requirements.txt", "requirements-dev.txt"} {
		if d.has(file) {
			install = append(install, "-r "+file)
		}
	}
	if len(p.Project.Dependencies) > 0 || len(install) == 0 && strings.Contains(setup, "install_requires") {
		install = append(install, "-e .")
	}
	if pytest && !strings.Contains(d.read("requirements.txt")+d.read("requirements-dev.txt"), "pytest") {
		install = append(install, "pytest")
	}
	if len(install) > 0 {
		run = ".venv/bin/python"
		d.caches([]string{"~/.cache/pip"}, pipKeys(d))
		d.add(language.Restore, "in an environment of its own, so that the agent's packages play no part", "python3 -m venv .venv\n.venv/bin/python -m pip install "+strings.Join(install, " "))
	}
	switch {
	case test == "":
		d.note("%s has no directory of tests, so no test stage is proposed", at(d.dir))
	case pytest:
		d.add(language.Test, "", run+" -m pytest --junitxml=report.xml", d.reports("report.xml"))
	default:
		d.add(language.Test, "", run+" -m unittest discover -s "+test, noReport("unittest writes no report by itself; pytest --junitxml does"))
	}
	if d.has("pyproject.toml") || d.has("setup.py") {
		s := d.add(language.Package, "a wheel of this project alone", run+" -m pip wheel . --no-deps --wheel-dir dist")
		d.deliver(s, d.root("dist"), filesOf("*.whl"))
		return
	}
	s := d.add(language.Package, "no project file, so the sources are what ships", "")
	d.deliver(s, append(d.rootIfBelow(), filesOf("**/*.py", "requirements.txt", "README*"), packed)...)
}

func pipKeys(d *draft) (keys []string) {
	for _, file := range []string{"requirements.txt", "requirements-dev.txt", "pyproject.toml", "setup.py", "setup.cfg"} {
		if d.has(file) {
			keys = append(keys, file)
		}
	}
	return keys
}

// dirOf gives the first of the directories that has a file, without its slash.
func (d *draft) dirOf(dirs ...string) string {
	for _, dir := range dirs {
		if _, ok := d.any(func(name string) bool { return strings.HasPrefix(name, dir) && strings.HasSuffix(name, ".py") }); ok {
			return strings.TrimSuffix(dir, "/")
		}
	}
	return ""
}

var (
	mavenJava  = regexp.MustCompile(`<(?:maven\.compiler\.release|maven\.compiler\.source|java\.version|release)>\s*(?:1\.)?(\d+)\s*<`)
	gradleJava = regexp.MustCompile(`(?:languageVersion[^\d]*|sourceCompatibility[^\d]*(?:1\.)?|VERSION_(?:1_)?)(\d+)`)
	netVersion = regexp.MustCompile(`net(\d+\.\d+)`)
	sdkVersion = regexp.MustCompile(`"version"\s*:\s*"(\d+\.\d+)`)
)

func javaOf(rule *regexp.Regexp, text string) string {
	if m := rule.FindStringSubmatch(text); m != nil {
		return ">=" + m[1]
	}
	return ">=17"
}

func maven(d *draft) {
	d.fact("java", javaOf(mavenJava, d.read("pom.xml")))
	mvn := "mvn"
	if d.has("mvnw") {
		mvn = "./mvnw"
	} else {
		d.fact("mvn", ">=3.6")
	}
	d.caches([]string{"~/.m2/repository"}, []string{"**/pom.xml"})
	d.add(language.Restore, "", mvn+" -B -ntp dependency:go-offline")
	d.add(language.Compile, "", mvn+" -B -ntp test-compile")
	if _, ok := d.any(func(name string) bool { return strings.Contains(name, "src/test/") }); ok {
		d.add(language.Test, "surefire writes JUnit XML", mvn+" -B -ntp test", d.reports("**/target/surefire-reports/TEST-*.xml"))
	}
	s := d.add(language.Package, "", mvn+" -B -ntp -DskipTests package")
	d.deliver(s, append(d.rootIfBelow(), filesOf("**/target/*.jar", "**/target/*.war", "!**/target/original-*.jar"), line{"flat", "true", "without the directories of the modules"})...)
}

func gradle(d *draft) {
	text := d.read("build.gradle") + d.read("build.gradle.kts") + d.read("app/build.gradle") + d.read("app/build.gradle.kts")
	d.fact("java", javaOf(gradleJava, text))
	run := "gradle"
	if d.has("gradlew") {
		run = "./gradlew"
	} else {
		d.fact("gradle", ">=7")
	}
	d.caches([]string{"~/.gradle/caches", "~/.gradle/wrapper"}, []string{"**/*.gradle", "**/*.gradle.kts", "**/gradle.lockfile", "gradle/wrapper/gradle-wrapper.properties"})
	d.add(language.Compile, "no daemon is left behind on the agent", run+" --no-daemon testClasses")
	if _, ok := d.any(func(name string) bool { return strings.Contains(name, "src/test/") }); ok {
		d.add(language.Test, "", run+" --no-daemon test", d.reports("**/build/test-results/**/*.xml"))
	}
	s := d.add(language.Package, "", run+" --no-daemon assemble")
	d.deliver(s, append(d.rootIfBelow(), filesOf("**/build/libs/*.jar", "**/build/distributions/*"), line{"flat", "true", "without the directories of the subprojects"})...)
}

func dotnet(d *draft) {
	want, text := "", d.read("global.json")
	if m := sdkVersion.FindStringSubmatch(text); m != nil {
		want = m[1]
	}
	projects := ""
	junit := false
	if name, ok := d.any(func(name string) bool { return strings.HasSuffix(name, "proj") }); ok {
		projects = d.read(name)
	}
	looked := 0
	for _, name := range d.tree.Names {
		if strings.HasSuffix(name, ".csproj") && strings.Contains(strings.ToLower(name), "test") && looked < 50 {
			raw, _ := d.tree.Read(name)
			junit = junit || strings.Contains(string(raw), "JunitXml.TestLogger")
			looked++
		}
	}
	if m := netVersion.FindStringSubmatch(projects + d.read("Directory.Build.props")); want == "" && m != nil {
		want = m[1]
	}
	d.fact("dotnet", ">="+cmp.Or(want, "8.0"))
	keys := []string{"**/*.csproj"}
	if _, ok := d.any(func(name string) bool { return path.Base(name) == "packages.lock.json" }); ok {
		keys = []string{"**/packages.lock.json"}
	}
	d.caches([]string{"~/.nuget/packages"}, keys)
	target := document.Quote(d.mark)
	target = strings.Trim(target, `"`)
	if strings.Contains(target, " ") {
		target = "'" + target + "'"
	}
	d.add(language.Restore, "", "dotnet restore "+target)
	d.add(language.Compile, "", "dotnet build "+target+" -c Release --no-restore")
	if _, ok := d.any(func(name string) bool {
		return strings.Contains(strings.ToLower(name), "test") && strings.HasSuffix(name, ".cs")
	}); ok {
		if junit {
			d.add(language.Test, "", "dotnet test "+target+" -c Release --no-build --logger 'junit;LogFilePath=report.xml'", d.reports("**/report.xml"))
		} else {
			d.add(language.Test, "", "dotnet test "+target+" -c Release --no-build", noReport("a test project that refers to JunitXml.TestLogger can write a report that is read"))
		}
	}
	s := d.add(language.Package, "", "dotnet publish "+target+" -c Release --no-build -o out")
	d.deliver(s, d.root("out"), packed)
}
