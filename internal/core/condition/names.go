package condition

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"oskeld.dev/oskeld/internal/core/files"
)

// ValueKind is what a chosen value is.
type ValueKind string

const (
	TextValue   ValueKind = "text"
	FlagValue   ValueKind = "flag"
	NumberValue ValueKind = "number"
)

// Value is the value of an ask. Text is "true" or "false" for a flag, decimal for a number.
type Value struct {
	Name string    `json:"name"`
	Kind ValueKind `json:"kind" enum:"text,flag,number"`
	Text string    `json:"text"`
}

// Export is a named text that a step handed to what comes later; Variant is that of the stage run
// which exported it, "" for a stage that does not vary.
type Export struct {
	Name    string `json:"name"`
	Variant string `json:"variant"`
	Text    string `json:"text"`
}

// Stage is what a condition sees of a stage that has ended.
type Stage struct {
	State string `cel:"state" json:"state"`
}

// Names are what a `when` may refer to: asks by kind, axes of the stage, and exports, with whether
// each comes in variants (then it is a map by variant, as in exports.size['linux amd64']).
type Names struct {
	Asks    map[string]ValueKind `json:"asks,omitempty"`
	Axes    []string             `json:"axes,omitempty"`
	Exports map[string]bool      `json:"exports,omitempty"`
}

var celTypes = map[ValueKind]*cel.Type{TextValue: cel.StringType, FlagValue: cel.BoolType, NumberValue: cel.IntType}

// list gives the dotted names with their types.
func (n Names) list() map[string]*cel.Type {
	all := map[string]*cel.Type{}
	for name, kind := range n.Asks {
		all["ask."+name] = celTypes[kind]
	}
	for _, axis := range n.Axes {
		all["vary."+axis] = cel.StringType
	}
	for name, varied := range n.Exports {
		all["exports."+name] = cel.StringType
		if varied {
			all["exports."+name] = cel.MapType(cel.StringType, cel.StringType)
		}
	}
	return all
}

var (
	baseEnvironment = sync.OnceValues(func() (*cel.Env, error) {
		return environment(cel.Variable("stages", cel.MapType(cel.StringType, cel.ObjectType("condition.Stage"))))
	})
	environmentsByNames sync.Map // what stages of one file know is compiled for again and again
	environmentsKept    = 256
)

func (n Names) environment() (*cel.Env, error) {
	base, err := baseEnvironment()
	all := n.list()
	if err != nil || len(all) == 0 {
		return base, err
	}
	names := slices.Sorted(maps.Keys(all))
	var key strings.Builder
	options := make([]cel.EnvOption, len(names))
	for i, name := range names {
		fmt.Fprintf(&key, "%s:%s;", name, all[name])
		options[i] = cel.Variable(name, all[name])
	}
	if kept, ok := environmentsByNames.Load(key.String()); ok {
		return kept.(*cel.Env), nil
	}
	env, err := base.Extend(options...)
	if err != nil {
		return nil, err
	}
	count := 0
	environmentsByNames.Range(func(any, any) bool { count++; return true })
	if count >= environmentsKept {
		environmentsByNames.Clear()
	}
	environmentsByNames.Store(key.String(), env)
	return env, nil
}

var (
	wordRule  = regexp.MustCompile(`^[A-Za-z0-9_]+(\.[A-Za-z0-9_]+)*`)
	quoteRule = regexp.MustCompile(`undeclared reference to '([^']*)'`)
)

// mistake places an error of the compiler, whose lines count from 1 and columns from 0 in
// characters, and says what may have been meant.
func (n Names) mistake(text string, line, column int, message string) Mistake {
	at := 0
	for range line - 1 {
		i := strings.IndexByte(text[at:], '\n')
		if i < 0 {
			break
		}
		at += i + 1
	}
	for range column {
		if at >= len(text) {
			break
		}
		_, size := utf8.DecodeRuneInString(text[at:])
		at += size
	}
	m := Mistake{Offset: at, Length: 1, Message: strings.TrimSuffix(message, " (in container '')")}
	if strings.HasPrefix(message, "undefined field") { // the place is that of the dot
		if word := wordRule.FindString(text[min(at+1, len(text)):]); word != "" {
			m.Offset++
		}
	}
	word := wordRule.FindString(text[min(m.Offset, len(text)):])
	m.Length = max(1, len(word))
	known := slices.Sorted(maps.Keys(n.list()))
	m.Message, _, _ = strings.Cut(m.Message, " (did you mean")
	if q := quoteRule.FindStringSubmatch(message); q != nil {
		// The compiler points at a dot within a dotted name.
		if i := strings.LastIndex(text[:min(len(text), m.Offset+len(q[1]))], q[1]); i >= 0 {
			word = wordRule.FindString(text[i:])
			m.Offset, m.Length = i, len(word)
		}
		first, _, _ := strings.Cut(word, ".")
		switch {
		case slices.Contains([]string{"ask", "vary", "exports"}, first):
			m.Message = fmt.Sprintf("%s is not known here", word)
			known = slices.DeleteFunc(known, func(name string) bool { return !strings.HasPrefix(name, first+".") })
			if len(known) == 0 {
				m.Advice = map[string]string{"ask": "the file has no [ask.NAME]", "vary": "the stage does not vary", "exports": "no stage names it under `exports`"}[first]
			} else {
				m.Advice = "known: " + strings.Join(known, ", ")
			}
		default:
			known = append(known, "build", "source", "version", "stages")
		}
		if near := files.Closest(word, known); near != "" {
			m.Advice = "did you mean " + near + "?"
		}
	}
	return m
}

// StageRef is a stage that a condition names, at Offset bytes from its start.
type StageRef struct {
	Name   string
	Offset int
}

var stageRule = regexp.MustCompile(`\bstages(?:\.([A-Za-z_][A-Za-z0-9_]*)|\[\s*(?:'([^']*)'|"([^"]*)")\s*\])`)

// Stages lists the stages that a condition names.
func Stages(text string) (list []StageRef) {
	for _, m := range stageRule.FindAllStringSubmatchIndex(text, -1) {
		for g := 2; g < len(m); g += 2 {
			if m[g] >= 0 {
				list = append(list, StageRef{text[m[g]:m[g+1]], m[g]})
			}
		}
	}
	return list
}

// fill gives the scope's names to an evaluation.
func (s Scope) fill(vars map[string]any) {
	if s.Tests != nil {
		vars["tests"] = *s.Tests
	}
	vars["stages"] = s.Stages
	if s.Stages == nil {
		vars["stages"] = map[string]Stage{}
	}
	for _, a := range s.Asks {
		switch a.Kind {
		case FlagValue:
			vars["ask."+a.Name] = a.Text == "true"
		case NumberValue:
			n, _ := strconv.ParseInt(a.Text, 10, 64)
			vars["ask."+a.Name] = n
		default:
			vars["ask."+a.Name] = a.Text
		}
	}
	for axis, value := range s.Vary {
		vars["vary."+axis] = value
	}
	for _, e := range s.Exports {
		name := "exports." + e.Name
		if e.Variant == "" {
			vars[name] = e.Text
			continue
		}
		byVariant, ok := vars[name].(map[string]string)
		if !ok {
			byVariant = map[string]string{}
			vars[name] = byVariant
		}
		byVariant[e.Variant] = e.Text
	}
}
