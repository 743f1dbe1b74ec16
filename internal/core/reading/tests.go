// Package reading reads the reports that tools write: tests as JUnit XML, TAP or `go test -json`,
// told apart by their content.
//
//	tests, err := reading.Tests(r)
package reading

import (
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Outcome of a test.
type Outcome string

const (
	Passed  Outcome = "passed"
	Failed  Outcome = "failed"
	Skipped Outcome = "skipped"
)

// Case is one test that ran. Seconds is its duration; Message is what it said when it did not
// pass, at most MostMessage bytes.
type Case struct {
	Suite   string  `json:"suite"`
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	Seconds float64 `json:"seconds"`
	Message string  `json:"message,omitempty"`
	File    string  `json:"file,omitempty"` // where it stands, if the report says so
	Line    int     `json:"line,omitempty"`
}

var (
	placeRule  = regexp.MustCompile(`([A-Za-z0-9_./\\-]+\.[A-Za-z]{1,5}):(\d+)\b`)
	tracedRule = regexp.MustCompile(`File "([^"]+)", line (\d+)`)
)

// Place is the file and line of a test that did not pass, as in "hive_test.go:12": where the report
// names it, else the first that its message names; "" for none.
func (c Case) Place() string {
	if c.File != "" {
		if c.Line > 0 {
			return c.File + ":" + strconv.Itoa(c.Line)
		}
		return c.File
	}
	for _, rule := range []*regexp.Regexp{tracedRule, placeRule} {
		if all := rule.FindAllStringSubmatch(c.Message, -1); len(all) > 0 {
			m := all[0]
			if rule == tracedRule { // the innermost call stands last
				m = all[len(all)-1]
			}
			return m[1] + ":" + m[2]
		}
	}
	return ""
}

// Limits on hostile or broken reports.
const (
	MostBytes   = 256 << 20
	MostCases   = 200_000
	MostMessage = 16 << 10
)

// Summary counts outcomes.
type Summary struct {
	Total   int `json:"total"`
	Passed  int `json:"passed"`
	Failed  int `json:"failed"`
	Skipped int `json:"skipped"`
}

// Sum counts the cases.
func Sum(cases []Case) (s Summary) {
	s.Total = len(cases)
	for _, c := range cases {
		switch c.Outcome {
		case Passed:
			s.Passed++
		case Failed:
			s.Failed++
		case Skipped:
			s.Skipped++
		}
	}
	return s
}

// Tests reads one report. A report without a test gives none and no error; what is neither form,
// or breaks off, is an error of kind invalid.
func Tests(r io.Reader) ([]Case, error) {
	limited := &io.LimitedReader{R: r, N: MostBytes + 1}
	b := bufio.NewReaderSize(limited, 64<<10)
	head, _ := b.Peek(1024)
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	var cases []Case
	var err error
	switch {
	case bytes.HasPrefix(head, []byte("<")):
		cases, err = junit(b)
	case bytes.HasPrefix(head, []byte("{")), len(head) == 0:
		cases, err = goTest(b)
	case tapHead.Match(head):
		cases, err = tap(b)
	default:
		return nil, fault.Invalid("the report is neither JUnit XML, TAP nor the output of go test -json")
	}
	if limited.N <= 0 {
		return nil, fault.Invalid("the report is larger than %d bytes", MostBytes)
	}
	return cases, err
}

var tapHead = regexp.MustCompile(`(?m)^(TAP version \d+|1\.\.\d+|(not )?ok\b)`)

type junitCase struct {
	File    string        `xml:"file,attr"`
	Line    string        `xml:"line,attr"`
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitMessage `xml:"failure"`
	Error   *junitMessage `xml:"error"`
	Skipped *junitMessage `xml:"skipped"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (m *junitMessage) text() string {
	text := strings.TrimSpace(m.Text)
	if text == "" || m.Message != "" && !strings.Contains(text, m.Message) {
		text = strings.TrimSpace(m.Message + "\n" + text)
	}
	return cut(text)
}

func cut(text string) string {
	return strings.ToValidUTF8(text[:min(len(text), MostMessage)], "\uFFFD")
}

func junit(r io.Reader) ([]Case, error) {
	d := xml.NewDecoder(r)
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	var cases []Case
	var suites []string
	root := false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			if !root {
				return nil, fault.Invalid("the XML holds no testsuite")
			}
			return cases, nil
		}
		if err != nil {
			return cases, fault.Invalid("the XML breaks off: %v", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "testsuite", "testsuites":
				root = true
				name := ""
				for _, a := range t.Attr {
					if a.Name.Local == "name" {
						name = a.Value
					}
				}
				suites = append(suites, name)
			case "testcase":
				var c junitCase
				if err := d.DecodeElement(&c, &t); err != nil {
					return cases, fault.Invalid("a testcase breaks off: %v", err)
				}
				if len(cases) == MostCases {
					return nil, fault.Invalid("the report has more than %d tests", MostCases)
				}
				cases = append(cases, c.read(suites))
			}
		case xml.EndElement:
			if t.Name.Local == "testsuite" || t.Name.Local == "testsuites" {
				suites = suites[:max(0, len(suites)-1)]
			}
		}
	}
}

func (c junitCase) read(suites []string) Case {
	seconds, _ := strconv.ParseFloat(strings.ReplaceAll(c.Time, ",", ""), 64)
	out := Case{Suite: c.Class, Name: c.Name, Outcome: Passed, Seconds: max(0, seconds), File: c.File}
	out.Line, _ = strconv.Atoi(c.Line)
	if out.Suite == "" && len(suites) > 0 {
		out.Suite = suites[len(suites)-1]
	}
	switch {
	case c.Failure != nil:
		out.Outcome, out.Message = Failed, c.Failure.text()
	case c.Error != nil:
		out.Outcome, out.Message = Failed, c.Error.text()
	case c.Skipped != nil:
		out.Outcome, out.Message = Skipped, c.Skipped.text()
	}
	return out
}

type goEvent struct {
	Action  string
	Package string
	Test    string
	Elapsed float64
	Output  string
}

// goTest follows the events of `go test -json` (cmd/test2json). A package that fails without a
// failing test (it did not build, or panicked) counts as one failed test named after itself; a
// test that began and never ended failed with its package.
func goTest(r *bufio.Reader) ([]Case, error) {
	run := goRun{open: map[goTestKey]*Case{}, failedIn: map[string]int{}}
	for line := 1; ; line++ {
		text, readErr := r.ReadBytes('\n')
		// Tools print beside the events, build errors for one: what is no object is passed over.
		if text = bytes.TrimSpace(text); bytes.HasPrefix(text, []byte("{")) {
			var e goEvent
			if json.Unmarshal(text, &e) != nil {
				return nil, fault.Invalid("line %d of the report is not an event of go test -json", line)
			}
			if err := run.take(e); err != nil {
				return nil, err
			}
		}
		if errors.Is(readErr, io.EOF) {
			return slices.Clip(withoutParents(run.cases())), nil
		}
		if readErr != nil {
			return nil, readErr
		}
	}
}

type goTestKey struct{ pkg, test string }

// goRun gathers the events of one report, by test.
type goRun struct {
	order    []goTestKey
	open     map[goTestKey]*Case
	failedIn map[string]int // failed tests by package
}

var goOutcomes = map[string]Outcome{"pass": Passed, "fail": Failed, "skip": Skipped}

func (g *goRun) take(e goEvent) error {
	if e.Package == "" {
		return nil
	}
	key := goTestKey{e.Package, e.Test}
	c := g.open[key]
	if c == nil {
		if len(g.order) == MostCases {
			return fault.Invalid("the report has more than %d tests", MostCases)
		}
		c = &Case{Suite: e.Package, Name: e.Test}
		g.open[key] = c
		g.order = append(g.order, key)
	}
	if e.Action == "output" && len(c.Message) < MostMessage && !noise(e.Output) {
		c.Message += e.Output
	}
	if outcome, ended := goOutcomes[e.Action]; ended {
		c.Outcome, c.Seconds = outcome, e.Elapsed
		if outcome == Failed && e.Test != "" {
			g.failedIn[e.Package]++
		}
	}
	return nil
}

func (g *goRun) cases() (cases []Case) {
	for _, key := range g.order {
		c := *g.open[key]
		switch {
		case key.test == "":
			if c.Outcome != Failed || g.failedIn[key.pkg] > 0 {
				continue // a package's own pass is no test
			}
			c.Name = "(package)"
		case c.Outcome == "":
			c.Outcome = Failed
			g.failedIn[key.pkg]++
		}
		if c.Outcome == Passed {
			c.Message = ""
		}
		c.Message = cut(strings.TrimSpace(c.Message))
		cases = append(cases, c)
	}
	return cases
}

// withoutParents drops a test that only gathers subtests, since counting both would count twice.
func withoutParents(cases []Case) []Case {
	parents := map[string]bool{}
	for _, c := range cases {
		for name := c.Name; ; {
			i := strings.LastIndexByte(name, '/')
			if i < 0 {
				break
			}
			name = name[:i]
			parents[c.Suite+"\x00"+name] = true
		}
	}
	return slices.DeleteFunc(cases, func(c Case) bool { return parents[c.Suite+"\x00"+c.Name] })
}

func noise(output string) bool {
	for _, start := range []string{"=== RUN", "=== PAUSE", "=== CONT", "=== NAME", "PASS", "ok  \t"} {
		if strings.HasPrefix(output, start) {
			return true
		}
	}
	return false
}
