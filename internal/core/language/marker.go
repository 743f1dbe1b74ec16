package language

import (
	"strconv"

	"oskeld.dev/oskeld/internal/core/document"
)

// Marker adds to a file's diagnostics what only somebody else can tell, such as a service.
type Marker struct {
	*findings
	root *node
}

// NewMarker begins with the diagnostics that reading the text gave. The text must be TOML.
func NewMarker(file string, text []byte, before Diagnostics) *Marker {
	r, root := begin(file, text)
	r.list = before
	return &Marker{r.findings, root}
}

// Mark adds a diagnostic at a place: keys, places in lists, or texts in lists of texts, from the
// top; where the path leads no further, at the last place that is there.
func (m *Marker) Mark(code string, path []string, advice, format string, args ...any) {
	at := span{Length: 1}
	for n := m.root; n != nil && len(path) > 0; path = path[1:] {
		var next *node
		switch n.Kind {
		case document.Table:
			if e := n.Entries[path[0]]; e != nil {
				at, next = e.At, e.Value
				if len(path) == 1 && next.Kind == document.Text {
					at = next.At
				}
			}
		case document.Array:
			i, err := strconv.Atoi(path[0])
			for j, item := range n.Items {
				if err == nil && i == j || item.Kind == document.Text && item.Text == path[0] {
					at, next = item.At, item
				}
			}
		}
		n = next
		if n == nil {
			break
		}
	}
	m.add(code, at, advice, format, args...)
}

// Diagnostics are all, in the order of the file's lines.
func (m *Marker) Diagnostics() Diagnostics { return m.sorted() }
