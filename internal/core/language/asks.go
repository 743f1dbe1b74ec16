package language

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
)

const askPattern = `^[a-z][a-z0-9_]{0,39}$`

var askName = regexp.MustCompile(askPattern)

type askNodes struct {
	Ask
	pick, usual, line, flag, number *node
}

func (r *reader) readAsks(n *node) (list []Ask) {
	for _, key := range n.Keys {
		e := n.Entries[key]
		if !askName.MatchString(key) {
			r.add("S117", e.At, "lower-case letters, digits and \"_\"", "%q cannot be the name of an ask", key)
			continue
		}
		if e.Value.Kind != 0 {
			continue // fits says so
		}
		a := askNodes{Ask: Ask{Name: key, Kind: condition.TextValue, Picks: []string{}}}
		fill(r, &a, e.Value, askFields, "ask "+key)
		switch {
		case a.pick != nil:
			r.askPicks(&a)
		case a.line != nil:
			a.Usual = a.line.Text
		case a.flag != nil:
			a.Kind, a.Usual = condition.FlagValue, strconv.FormatBool(a.flag.Truth)
		case a.number != nil:
			v, err := wholeNumber(a.number.Text)
			if err != nil {
				r.add("S102", a.number.At, "", "%s is not a whole number", a.number.Text)
			}
			a.Kind, a.Usual = condition.NumberValue, strconv.FormatInt(v, 10)
		}
		if err := (&a.Ask).check(a.Usual); err != nil && a.line != nil {
			r.fault("S117", a.line.At, err)
		}
		list = append(list, a.Ask)
	}
	return list
}

func (r *reader) askPicks(a *askNodes) {
	a.Picks = texts(a.pick)
	if len(a.Picks) == 0 {
		r.add("S117", a.pick.At, "name at least one text", "ask %s has nothing to pick", a.Name)
		return
	}
	for i, p := range a.Picks {
		if slices.Contains(a.Picks[:i], p) {
			r.add("S106", a.pick.Items[i].At, "leave one out", "%q stands twice", p)
		}
	}
	a.Usual = a.Picks[0]
	if a.usual != nil {
		if a.Usual = a.usual.Text; !slices.Contains(a.Picks, a.Usual) {
			r.add("S117", a.usual.At, suggest(a.Usual, a.Picks, "one of "), "the usual value %q is not among those to pick", a.Usual)
		}
	}
}

// MostAsk is how many bytes a chosen value may have.
const MostAsk = 4096

// check tells what is wrong with a value for the ask.
func (a *Ask) check(text string) error {
	switch {
	case len(text) > MostAsk:
		return fault.Invalid("the value for ask %q has %d bytes; at most %d are taken", a.Name, len(text), MostAsk)
	case strings.ContainsAny(text, "\n\r\x00"):
		return fault.Invalid("the value for ask %q has more than one line", a.Name).Hint("an ask takes one line of text")
	case len(a.Picks) > 0 && !slices.Contains(a.Picks, text):
		return fault.Invalid("%q cannot be picked for ask %q", text, a.Name).On("ask").Hint("%s", suggest(text, a.Picks, "one of "))
	case a.Kind == condition.FlagValue && text != "true" && text != "false":
		return fault.Invalid("ask %q takes true or false, not %q", a.Name, text).On("ask")
	case a.Kind == condition.NumberValue:
		if _, err := strconv.ParseInt(text, 10, 64); err != nil {
			return fault.Invalid("ask %q takes a whole number, not %q", a.Name, text).On("ask")
		}
	}
	return nil
}

// Choose gives a value for every ask: the chosen one, else the usual one. A name that is not asked
// for, or a value that does not fit, is an error of kind invalid.
func Choose(asks []Ask, chosen map[string]string) ([]condition.Value, error) {
	known := make([]string, len(asks))
	values := make([]condition.Value, len(asks))
	for i, a := range asks {
		known[i] = a.Name
		text, ok := chosen[a.Name]
		if !ok {
			text = a.Usual
		}
		if err := a.check(text); err != nil {
			return nil, err
		}
		values[i] = condition.Value{Name: a.Name, Kind: a.Kind, Text: text}
	}
	for name := range chosen {
		if !slices.Contains(known, name) {
			return nil, fault.Invalid("there is no ask %q", name).On("ask").Hint("%s", suggest(name, known, fmt.Sprintf("the file asks for %d: ", len(known))))
		}
	}
	return values, nil
}
