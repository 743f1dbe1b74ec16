package document

import (
	"errors"
	"testing"
)

func TestPlaces(t *testing.T) {
	text := "a = \"x\"\nn = 12\nb = true\n[t.u]\nlist = [\"p\", \"q\"]\n[[rows]]\nk = { deep = 'v' }\n"
	root, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	cut := func(s Span) string { return text[s.Offset : s.Offset+s.Length] }
	u := root.Entries["t"].Value.Entries["u"].Value
	row := root.Entries["rows"].Value.Items[0]
	for want, got := range map[string]Span{
		`"x"`: root.Entries["a"].Value.At, "12": root.Entries["n"].Value.At, "true": root.Entries["b"].Value.At, `"q"`: u.Entries["list"].Value.Items[1].At,
		"list": u.Entries["list"].At, "'v'": row.Entries["k"].Value.Entries["deep"].Value.At,
	} {
		if cut(got) != want {
			t.Errorf("%q stands where %q was asked", cut(got), want)
		}
	}
}

func TestInner(t *testing.T) {
	for text, want := range map[string]string{
		`a = "one X two"`:                          "X",
		`a = 'one X two'`:                          "X",
		`a = "\"\t\u00e9\U0001F41D X"`:             "X",
		"a = \"\"\"\n  first\n  X\"\"\"":           "X",
		"a = \"\"\"\r\nfirst\r\nX\"\"\"":           "X",
		"a = '''\nfirst \\n X'''":                  "X",
		"a = \"\"\"one \\\n     two X three\"\"\"": "X",
	} {
		root, err := Parse(text)
		if err != nil {
			t.Fatal(text, err)
		}
		n := root.Entries["a"].Value
		at := -1
		for i := range n.Text {
			if n.Text[i] == 'X' {
				at = i
			}
		}
		if got := n.Inner(text, at, 1); text[got.Offset:got.Offset+got.Length] != want {
			t.Errorf("%q: at %+v stands %q", text, got, text[got.Offset:got.Offset+got.Length])
		}
	}
}

func TestParseRefuses(t *testing.T) {
	for text, want := range map[string]Error{
		"\xff\xfea\x00":      {Span{0, 1}, "the file is UTF-16 text", "save it as UTF-8"},
		"a = \"\xe9\"":       {Span{5, 1}, "the file is not UTF-8 text", "save it as UTF-8"},
		"a = 1\nb = = 2":     {At: Span{10, 1}},
		"a = 1\n\na = 2\n":   {At: Span{7, 1}},
		"{\"json\": true}\n": {At: Span{0, 1}},
	} {
		_, err := Parse(text)
		got, ok := errors.AsType[*Error](err)
		if !ok || got.At != want.At || want.Message != "" && *got != want {
			t.Errorf("%q: %+v", text, got)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a = \"x\"\n[t]\nb = [1, {c = 2}]", 3)
	f.Fuzz(func(t *testing.T, text string, i int) {
		root, err := Parse(text)
		if err != nil {
			return
		}
		for _, e := range root.Entries {
			if e.Value.Kind == Text && i >= 0 && i < len(e.Value.Text) {
				if s := e.Value.Inner(text, i, 1); s.Offset < 0 || s.Offset+s.Length > len(text) {
					t.Errorf("%q: %+v", text, s)
				}
			}
		}
	})
}
