// Package document reads TOML into nodes that know where in the text they stand, for whoever must
// point at a place or change one value and leave the rest as it is.
//
//	root, err := document.Parse(text)
//	at := root.Entries["version"].Value.At
package document

import (
	"errors"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Kind is what a value is in TOML.
type Kind int

const (
	Table Kind = iota
	Array
	Text
	Bool
	Integer
	Other // floats and dates
)

// Span is a place in the text, in bytes.
type Span struct{ Offset, Length int }

// Node is a TOML value with its place in the text. Text is a text's value, or a number as written.
type Node struct {
	Kind    Kind
	At      Span
	Text    string
	Truth   bool
	Items   []*Node
	Keys    []string // of a table, in the order of the file
	Entries map[string]*Entry
}

// Entry is a key of a table with its place.
type Entry struct {
	At    Span
	Value *Node
}

// Error says what is not TOML, and where.
type Error struct {
	At      Span
	Message string
	Advice  string
}

func (e *Error) Error() string { return e.Message }

// Parse reads a whole text; what is not TOML is an *Error.
func Parse(text string) (*Node, error) {
	if strings.HasPrefix(text, "\xff\xfe") || strings.HasPrefix(text, "\xfe\xff") {
		return nil, &Error{Span{0, 1}, "the file is UTF-16 text", "save it as UTF-8"}
	}
	if !utf8.ValidString(text) {
		return nil, &Error{Span{notUTF8(text), 1}, "the file is not UTF-8 text", "save it as UTF-8"}
	}
	var plain map[string]any // go-toml's own decoder knows all the rules: keys twice, tables reopened
	if err := toml.Unmarshal([]byte(text), &plain); err != nil {
		at := Span{0, 1}
		if e, ok := errors.AsType[*toml.DecodeError](err); ok {
			row, column := e.Position()
			at.Offset = lineStart(text, row) + column - 1
		}
		return nil, &Error{at, "not TOML: " + strings.TrimPrefix(err.Error(), "toml: "), ""}
	}
	d := &decoder{text: text, root: newTable(Span{})}
	d.parser.Reset([]byte(text))
	current := d.root
	for d.parser.NextExpression() {
		e := d.parser.Expression()
		switch e.Kind {
		case unstable.Table:
			current = descend(d.root, e.Key())
		case unstable.ArrayTable:
			current = grow(d.root, e.Key())
		case unstable.KeyValue:
			d.assign(current, e)
		}
	}
	return d.root, nil
}

func notUTF8(text string) int {
	for i, r := range text {
		if _, size := utf8.DecodeRuneInString(text[i:]); r == utf8.RuneError && size == 1 {
			return i
		}
	}
	return 0
}

func lineStart(text string, row int) int {
	at := 0
	for range row - 1 {
		i := strings.IndexByte(text[at:], '\n')
		if i < 0 {
			break
		}
		at += i + 1
	}
	return at
}

func newTable(at Span) *Node { return &Node{Kind: Table, At: at, Entries: map[string]*Entry{}} }

func (n *Node) put(key string, at Span, value *Node) *Node {
	if e, ok := n.Entries[key]; ok {
		return e.Value
	}
	n.Keys = append(n.Keys, key)
	n.Entries[key] = &Entry{at, value}
	return value
}

type decoder struct {
	text   string
	root   *Node
	parser unstable.Parser
}

func place(n *unstable.Node) Span { return Span{int(n.Raw.Offset), int(n.Raw.Length)} }

// into follows one key from a table, making a table where there is none; of an array of tables
// it is the last.
func into(t *Node, key *unstable.Node) *Node {
	next := t.put(string(key.Data), place(key), newTable(place(key)))
	if next.Kind == Array && len(next.Items) > 0 {
		return next.Items[len(next.Items)-1]
	}
	return next
}

func descend(t *Node, keys unstable.Iterator) *Node {
	for keys.Next() {
		t = into(t, keys.Node())
	}
	return t
}

func grow(t *Node, keys unstable.Iterator) *Node {
	for keys.Next() {
		key := keys.Node()
		if !keys.IsLast() {
			t = into(t, key)
			continue
		}
		array := t.put(string(key.Data), place(key), &Node{Kind: Array, At: place(key)})
		t = newTable(place(key))
		array.Items = append(array.Items, t)
	}
	return t
}

func (d *decoder) assign(t *Node, e *unstable.Node) {
	for keys := e.Key(); keys.Next(); {
		key := keys.Node()
		if !keys.IsLast() {
			t = into(t, key)
			continue
		}
		after := int(key.Raw.Offset + key.Raw.Length)
		from := after + len(d.text[after:]) - len(strings.TrimLeft(d.text[after:], " \t="))
		t.put(string(key.Data), place(key), d.value(e.Value(), from))
	}
}

func (d *decoder) value(v *unstable.Node, from int) *Node {
	at := place(v)
	if at.Length == 0 && len(v.Data) > 0 {
		r := d.parser.Range(v.Data)
		at = Span{int(r.Offset), int(r.Length)}
	}
	if at.Length == 0 {
		at = Span{from, 1}
	}
	switch v.Kind {
	case unstable.String:
		return &Node{Kind: Text, At: at, Text: string(v.Data)}
	case unstable.Bool:
		return &Node{Kind: Bool, At: at, Text: string(v.Data), Truth: string(v.Data) == "true"}
	case unstable.Integer:
		return &Node{Kind: Integer, At: at, Text: string(v.Data)}
	case unstable.Array:
		n := &Node{Kind: Array, At: at}
		for it := v.Children(); it.Next(); {
			n.Items = append(n.Items, d.value(it.Node(), from))
		}
		return n
	case unstable.InlineTable:
		n := newTable(at)
		for it := v.Children(); it.Next(); {
			d.assign(n, it.Node())
		}
		return n
	}
	return &Node{Kind: Other, At: at, Text: string(v.Data)}
}
