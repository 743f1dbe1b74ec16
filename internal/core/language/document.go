package language

import (
	"errors"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// kind is what a value is in TOML.
type kind int

const (
	tableKind kind = iota
	arrayKind
	textKind
	boolKind
	otherKind // numbers and dates, which the language has no use for yet
)

// node is a TOML value with its place in the text.
type node struct {
	kind    kind
	at      span
	text    string
	truth   bool
	items   []*node
	keys    []string // of a table, in the order of the file
	entries map[string]*entry
}

// entry is a key of a table with its place.
type entry struct {
	at    span
	value *node
}

func newTable(at span) *node { return &node{kind: tableKind, at: at, entries: map[string]*entry{}} }

func (n *node) put(key string, at span, value *node) *node {
	if e, ok := n.entries[key]; ok {
		return e.value
	}
	n.keys = append(n.keys, key)
	n.entries[key] = &entry{at, value}
	return value
}

// parse reads TOML into nodes; what is not TOML is one diagnostic.
func parse(f *findings) *node {
	if !utf8.ValidString(f.text) || strings.HasPrefix(f.text, "\xff\xfe") {
		f.add("S001", span{0, 1}, "save it as UTF-8", "the file is not UTF-8 text")
		return nil
	}
	var plain map[string]any // go-toml's own decoder knows all the rules: keys twice, tables reopened
	if err := toml.Unmarshal([]byte(f.text), &plain); err != nil {
		at := span{0, 1}
		if e, ok := errors.AsType[*toml.DecodeError](err); ok {
			row, column := e.Position()
			at = span{f.lines[min(row, len(f.lines))-1] + column - 1, 1}
		}
		f.add("S001", at, "", "not TOML: %s", strings.TrimPrefix(err.Error(), "toml: "))
		return nil
	}
	root := newTable(span{})
	current := root
	var parser unstable.Parser
	parser.Reset([]byte(f.text))
	for parser.NextExpression() {
		e := parser.Expression()
		switch e.Kind {
		case unstable.Table:
			current = descend(root, e.Key())
		case unstable.ArrayTable:
			current = grow(root, e.Key())
		case unstable.KeyValue:
			assign(f.text, current, e)
		}
	}
	return root
}

func place(n *unstable.Node) span { return span{int(n.Raw.Offset), int(n.Raw.Length)} }

// into follows one key from a table, making a table where there is none; of an array of tables
// it is the last.
func into(t *node, key *unstable.Node) *node {
	next := t.put(string(key.Data), place(key), newTable(place(key)))
	if next.kind == arrayKind && len(next.items) > 0 {
		return next.items[len(next.items)-1]
	}
	return next
}

func descend(t *node, keys unstable.Iterator) *node {
	for keys.Next() {
		t = into(t, keys.Node())
	}
	return t
}

func grow(t *node, keys unstable.Iterator) *node {
	for keys.Next() {
		key := keys.Node()
		if !keys.IsLast() {
			t = into(t, key)
			continue
		}
		array := t.put(string(key.Data), place(key), &node{kind: arrayKind, at: place(key)})
		t = newTable(place(key))
		array.items = append(array.items, t)
	}
	return t
}

func assign(text string, t *node, e *unstable.Node) {
	for keys := e.Key(); keys.Next(); {
		key := keys.Node()
		if !keys.IsLast() {
			t = into(t, key)
			continue
		}
		after := int(key.Raw.Offset + key.Raw.Length)
		from := after + len(text[after:]) - len(strings.TrimLeft(text[after:], " \t="))
		t.put(string(key.Data), place(key), value(text, e.Value(), from))
	}
}

func value(text string, v *unstable.Node, from int) *node {
	at := place(v)
	if at.length == 0 {
		at = span{from, 1}
	}
	switch v.Kind {
	case unstable.String:
		return &node{kind: textKind, at: at, text: string(v.Data)}
	case unstable.Bool:
		return &node{kind: boolKind, at: at, truth: string(v.Data) == "true"}
	case unstable.Array:
		n := &node{kind: arrayKind, at: at}
		for it := v.Children(); it.Next(); {
			n.items = append(n.items, value(text, it.Node(), from))
		}
		return n
	case unstable.InlineTable:
		n := newTable(at)
		for it := v.Children(); it.Next(); {
			assign(text, n, it.Node())
		}
		return n
	}
	return &node{kind: otherKind, at: at, text: string(v.Data)}
}
