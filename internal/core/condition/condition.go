// Package condition reads and evaluates conditions in the Common Expression Language (CEL), and
// fills names into {braces}.
//
//	c, err := condition.Compile(condition.When, "source.branch == 'main'", condition.Names{})
//	ok, err := c.Holds(condition.Scope{Source: condition.Source{Branch: "main"}})
//
// Conditions are type-checked when they are compiled: an unknown name or a text compared with a
// number never waits for a run.
package condition

import (
	"errors"
	"reflect"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
)

// Build is what a condition sees of the build.
type Build struct {
	Pipeline string `cel:"pipeline"`
	Number   int    `cel:"number"`
	By       string `cel:"by"` // the person who started it
}

// Source is what a condition sees of the commit.
type Source struct {
	Commit  string   `cel:"commit"`
	Branch  string   `cel:"branch"`
	Tag     string   `cel:"tag"`
	Changed []string `cel:"changed"` // paths changed since the last passed build of the branch
}

// Tests sums up what test stages reported. Complete is false when a test stage was skipped,
// unread or forgiven.
type Tests struct {
	Total    int              `cel:"total"`
	Passed   int              `cel:"passed"`
	Failed   int              `cel:"failed"`
	Skipped  int              `cel:"skipped"`
	Complete bool             `cel:"complete"`
	Stages   map[string]Tests `cel:"-"`
}

// Scope is all that conditions may see. All but Tests goes to `when`; a rule of promotion sees
// Build, Source, Version and Tests.
type Scope struct {
	Build   Build
	Source  Source
	Version string
	Asks    []Value
	Vary    map[string]string // of the stage run, by axis
	Exports []Export
	Stages  map[string]Stage // those that the stage waits for
	Tests   *Tests           // nil: the build read no tests, and a rule about them is not met
}

// Place is where a condition stands; it settles which names are known.
type Place int

const (
	When Place = iota // `when` of a stage or step
	Rule              // `that` of a promotion rule
)

var ruleEnvironment = sync.OnceValues(func() (*cel.Env, error) {
	tests := cel.ObjectType("condition.Tests")
	var adapter types.Adapter
	env, err := environment(
		cel.Variable("tests", tests),
		cel.Function("stage", cel.MemberOverload("tests_stage", []*cel.Type{tests, cel.StringType}, tests,
			cel.BinaryBinding(func(of, name ref.Val) ref.Val { // tests.stage('name')
				all, _ := of.Value().(Tests)
				stage, ok := all.Stages[string(name.(types.String))]
				if !ok {
					return types.NewErr("no tests were read in stage %q", name.Value())
				}
				return adapter.NativeToValue(stage)
			}))))
	if err != nil {
		return nil, err
	}
	adapter = env.CELTypeAdapter()
	return env, nil
})

func environment(more ...cel.EnvOption) (*cel.Env, error) {
	return cel.NewEnv(append([]cel.EnvOption{
		ext.NativeTypes(reflect.TypeFor[Build](), reflect.TypeFor[Source](), reflect.TypeFor[Tests](), reflect.TypeFor[Stage](), ext.ParseStructTags(true)),
		ext.Strings(),
		cel.Variable("build", cel.ObjectType("condition.Build")),
		cel.Variable("source", cel.ObjectType("condition.Source")),
		cel.Variable("version", cel.StringType),
	}, more...)...)
}

// Condition is a compiled, type-checked condition that gives true or false.
type Condition struct {
	program  cel.Program
	late     bool
	constant bool
}

// Mistake is one error in a condition's text, at Offset bytes from its start.
type Mistake struct {
	Offset, Length int
	Message        string
	Advice         string
}

// Mistakes are all errors of one condition.
type Mistakes []Mistake

func (m Mistakes) Error() string { return m[0].Message }

// Compile checks a condition for its place; a failure is of type Mistakes. Names are what a `when`
// may refer to besides; a rule knows none.
func Compile(place Place, text string, names Names) (*Condition, error) {
	env, err := ruleEnvironment()
	if place == When {
		env, err = names.environment()
	}
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(text)
	if issues != nil && issues.Err() != nil {
		var all Mistakes
		for _, e := range issues.Errors() {
			all = append(all, names.mistake(text, e.Location.Line(), e.Location.Column(), e.Message))
		}
		return nil, all
	}
	if !ast.OutputType().IsExactType(cel.BoolType) {
		return nil, Mistakes{{0, max(1, len(text)), "it must be true or false, this is of type " + ast.OutputType().String(), "compare it with something"}}
	}
	program, err := env.Program(ast, cel.CostLimit(1_000_000))
	if err != nil {
		return nil, Mistakes{{0, max(1, len(text)), err.Error(), ""}}
	}
	late, constant := false, true
	for _, info := range ast.NativeRep().ReferenceMap() {
		constant = constant && info.Name == ""
		late = late || info.Name == "stages" || strings.HasPrefix(info.Name, "exports.")
	}
	return &Condition{program, late, constant}, nil
}

// Constant tells whether the condition refers to nothing, so that it is always the same.
func (c *Condition) Constant() bool { return c.constant }

// Late tells whether the condition refers to stages or exports, and so can only be told when what
// it waits for has ended.
func (c *Condition) Late() bool { return c.late }

// ErrNoTests says that a rule asks about tests and none were read.
var ErrNoTests = errors.New("no tests were read in the build")

// Holds evaluates the condition. An error says what it could not be evaluated for.
func (c *Condition) Holds(s Scope) (bool, error) {
	vars := map[string]any{"build": s.Build, "source": s.Source, "version": s.Version}
	s.fill(vars)
	out, _, err := c.program.Eval(vars)
	if err != nil {
		if s.Tests == nil && strings.Contains(err.Error(), "no such attribute(s): tests") {
			return false, ErrNoTests
		}
		return false, err
	}
	return out == types.True, nil
}
