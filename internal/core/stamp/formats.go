package stamp

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/tailscale/hujson"
	"oskeld.dev/oskeld/internal/core/document"
	"oskeld.dev/oskeld/internal/core/fault"
)

// setJSON sets a field of JSON, also with comments and trailing commas.
func setJSON(text []byte, f Field) ([]byte, error) {
	root, err := hujson.Parse(text)
	if err != nil {
		return nil, fault.Invalid("not JSON: %s", strings.TrimPrefix(err.Error(), "hujson: "))
	}
	at := &root
	for _, part := range f.parts() {
		var known []string
		var next *hujson.Value
		switch v := at.Value.(type) {
		case *hujson.Object:
			for i := range v.Members {
				m := &v.Members[i]
				name, _ := m.Name.Value.(hujson.Literal)
				known = append(known, name.String())
				if name.String() == part {
					next = &m.Value
				}
			}
		case *hujson.Array:
			if i, err := strconv.Atoi(part); err == nil && i >= 0 && i < len(v.Elements) {
				next = &v.Elements[i]
			}
		}
		if next == nil {
			return nil, noField(f, known)
		}
		at = next
	}
	old, ok := at.Value.(hujson.Literal)
	if !ok {
		return nil, fault.Invalid("field %q holds an object or a list, not one value", f.Path)
	}
	quoted, _ := json.Marshal(f.Text)
	switch raw := hujson.Literal(f.Text); {
	case old.Kind() == '0' && isNumber(f.Text), (old.Kind() == 't' || old.Kind() == 'f') && (f.Text == "true" || f.Text == "false"):
		at.Value = raw
	default:
		at.Value = hujson.Literal(quoted)
	}
	return root.Pack(), nil
}

func isNumber(text string) bool {
	var n json.Number
	return json.Unmarshal([]byte(text), &n) == nil && n.String() == text
}

func setTOML(text []byte, f Field) ([]byte, error) {
	root, err := document.Parse(string(text))
	if err != nil {
		return nil, fault.Invalid("%s", err)
	}
	at := root
	for _, part := range f.parts() {
		if at.Kind == document.Array {
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(at.Items) {
				return nil, noField(f, nil)
			}
			at = at.Items[i]
			continue
		}
		e := at.Entries[part]
		if e == nil {
			return nil, noField(f, at.Keys)
		}
		at = e.Value
	}
	if at.Kind == document.Table || at.Kind == document.Array {
		return nil, fault.Invalid("field %q holds a table or a list, not one value", f.Path)
	}
	with := document.Quote(f.Text)
	old := string(text[at.At.Offset : at.At.Offset+at.At.Length])
	switch {
	case at.Kind == document.Integer && isNumber(f.Text), at.Kind == document.Bool && (f.Text == "true" || f.Text == "false"):
		with = f.Text
	case strings.HasPrefix(old, "'") && !strings.ContainsAny(f.Text, "'\n\r"):
		with = "'" + f.Text + "'"
	}
	return splice(text, at.At.Offset, at.At.Offset+at.At.Length, with), nil
}

// setXML sets the text of the first element at a path, or one of its attributes.
func setXML(text []byte, f Field) ([]byte, error) {
	want := f.parts()
	attribute, isAttribute := strings.CutPrefix(want[len(want)-1], "@")
	if isAttribute {
		want = want[:len(want)-1]
	}
	body := bytes.TrimPrefix(text, []byte("\ufeff"))
	shift := len(text) - len(body)
	d := xml.NewDecoder(bytes.NewReader(body))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // names are ASCII in all that is common
	var path, known []string
	from := -1
	for {
		before := int(d.InputOffset())
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return nil, noField(f, known)
		}
		if err != nil {
			return nil, fault.Invalid("not XML: %s", strings.TrimPrefix(err.Error(), "XML "))
		}
		after := int(d.InputOffset())
		switch token := token.(type) {
		case xml.StartElement:
			path = append(path, token.Name.Local)
			if len(path) == len(want) && slices.Equal(path[:len(path)-1], want[:len(want)-1]) {
				known = append(known, token.Name.Local)
			}
			switch {
			case from >= 0:
				return nil, fault.Invalid("field %q holds elements, not one text", f.Path)
			case !slices.Equal(path, want):
			case isAttribute:
				return setAttribute(text, shift+before, shift+after, attribute, f)
			case strings.HasSuffix(string(body[before:after]), "/>"):
				name := string(body[before+1 : after-2])
				tag, _, _ := strings.Cut(name, " ")
				return splice(text, shift+after-2, shift+after, ">"+escapeXML(f.Text)+"</"+strings.TrimSpace(tag)+">"), nil
			default:
				from = after
			}
		case xml.EndElement:
			if from >= 0 {
				return splice(text, shift+from, shift+before, escapeXML(f.Text)), nil
			}
			if len(path) == 0 {
				return nil, fault.Invalid("not XML: </%s> closes nothing", token.Name.Local)
			}
			path = path[:len(path)-1]
		}
	}
}

var attributeRule = regexp.MustCompile(`([A-Za-z_][\w:.-]*)\s*=\s*("[^"]*"|'[^']*')`)

func setAttribute(text []byte, from, to int, name string, f Field) ([]byte, error) {
	var known []string
	for _, m := range attributeRule.FindAllSubmatchIndex(text[from:to], -1) {
		found := string(text[from+m[2] : from+m[3]])
		if found == name {
			return splice(text, from+m[4]+1, from+m[5]-1, escapeXML(f.Text)), nil
		}
		known = append(known, found)
	}
	return nil, noField(f, known)
}

func escapeXML(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(text)
}
