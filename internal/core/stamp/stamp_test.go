package stamp

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
)

var values = map[string]string{"version": "1.4.0", "commit": "8c1f2e0", "changes": "- one\n- \"two\"", "ask.label": "it's", "date": "20260314"}

func TestTemplate(t *testing.T) {
	for text, want := range map[string]string{
		"v{version}": "v1.4.0",
		"#define V \"{version}\"\nint f() { return {0}; }": "#define V \"1.4.0\"\nint f() { return {0}; }",
		"{{version}} is {version}":                         "{version} is 1.4.0",
		"{\"v\":{version}}":                                "{\"v\":1.4.0}",
		"${version} {version} {data} {x.y}":                "${version} 1.4.0 {data} {x.y}",
		"{changes}\n{ask.label}":                           "- one\n- \"two\"\nit's",
		"{version}\r\n{commit}\r\n":                        "1.4.0\r\n8c1f2e0\r\n",
	} {
		if got, err := Template(text, values); err != nil || got != want {
			t.Errorf("%q: %q, %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"a\nb {verison}":      "line 2: {verison} is not known here",
		"{version} {ask.lab}": "line 1: {ask.lab} is not known here",
		"nothing here":        "no {name} in it is known",
		"{}":                  "no {name} in it is known",
	} {
		if _, err := Template(text, values); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestSet(t *testing.T) {
	for _, c := range []struct {
		name, text string
		field      Field
		want       string
	}{
		{"a.json", "{\n\t// keep\n  \"b\" : [1,2 ],\n  \"version\":\t\"0\" ,\n}\n", Field{"version", "1.4.0"}, "{\n\t// keep\n  \"b\" : [1,2 ],\n  \"version\":\t\"1.4.0\" ,\n}\n"},
		{"a.json", `{"a":{"n":3,"t":false,"s":"x"}}`, Field{"a.n", "42"}, `{"a":{"n":42,"t":false,"s":"x"}}`},
		{"a.json", `{"a":{"n":3,"t":false}}`, Field{"a.n", "1.4.0"}, `{"a":{"n":"1.4.0","t":false}}`},
		{"a.json", `{"a":{"t":false}}`, Field{"a.t", "true"}, `{"a":{"t":true}}`},
		{"a.json", `{"a.b":["x","y"]}`, Field{"/a.b/1", `q"q`}, `{"a.b":["x","q\"q"]}`},
		{"a.toml", "# c\r\n[p]\r\nversion  =  \"0\"  # why\r\nz = 1\r\n", Field{"p.version", "1.4.0"}, "# c\r\n[p]\r\nversion  =  \"1.4.0\"  # why\r\nz = 1\r\n"},
		{"a.toml", "a = { n = 3, s = 'x' }", Field{"a.n", "7"}, "a = { n = 7, s = 'x' }"},
		{"a.toml", "a = { n = 3, s = 'x' }", Field{"a.s", "y"}, "a = { n = 3, s = 'y' }"},
		{"a.toml", "[[a]]\nv = \"1\"\n[[a]]\nv = \"2\"\n", Field{"a.1.v", "\"\\\n"}, "[[a]]\nv = \"1\"\n[[a]]\nv = \"\\\"\\\\\\n\"\n"},
		{"a.csproj", "\ufeff<Project Sdk='x'>\n  <!-- <Version>9</Version> -->\n  <PropertyGroup><Version> 0 </Version></PropertyGroup>\n</Project>", Field{"Project.PropertyGroup.Version", "1 & 2"},
			"\ufeff<Project Sdk='x'>\n  <!-- <Version>9</Version> -->\n  <PropertyGroup><Version>1 &amp; 2</Version></PropertyGroup>\n</Project>"},
		{"a.xml", `<p:a xmlns:p="u" v = "0"><b v="0" /></p:a>`, Field{"a.b.@v", "1"}, `<p:a xmlns:p="u" v = "0"><b v="1" /></p:a>`},
		{"a.xml", `<a><b x="y"/><b>2</b></a>`, Field{"a.b", "1"}, `<a><b x="y">1</b><b>2</b></a>`},
		{"a.pom", "<project><parent><version>9</version></parent><version>0</version></project>", Field{"project.version", "1.4.0"}, "<project><parent><version>9</version></parent><version>1.4.0</version></project>"},
	} {
		if got, err := Set(c.name, []byte(c.text), []Field{c.field}); err != nil || string(got) != c.want {
			t.Errorf("%s %v:\n%q, %v, want\n%q", c.name, c.field, got, err, c.want)
		}
	}
	for _, c := range []struct {
		name, text string
		field      Field
		want       string
	}{
		{"a.json", `{"version":"0"}`, Field{"verison", "1"}, `there is no field "verison"`},
		{"a.json", `{"a":{}}`, Field{"a", "1"}, "holds an object or a list"},
		{"a.json", `{"a":`, Field{"a", "1"}, "not JSON"},
		{"a.toml", "a = [1]", Field{"a", "1"}, "holds a table or a list"},
		{"a.toml", "a = ", Field{"a", "1"}, "not TOML"},
		{"a.xml", "<a><b><c/></b></a>", Field{"a.b", "1"}, "holds elements"},
		{"a.xml", "<a></a>", Field{"a.@v", "1"}, `there is no field "a.@v"`},
		{"a.xml", "</a>", Field{"a", "1"}, "not XML"},
		{"a.yaml", "a: 1", Field{"a", "1"}, "neither JSON, TOML nor XML"},
	} {
		if _, err := Set(c.name, []byte(c.text), []Field{c.field}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %v: %v, want %q", c.name, c.field, err, c.want)
		}
	}
}

// Whatever stands in a file, setting a field panics never, and leaves JSON that was JSON.
func FuzzSet(f *testing.F) {
	f.Add("a.json", []byte(`{"a":{"b":1}}`), "a.b", "x")
	f.Add("a.toml", []byte("a = {b = 1}\n[[c]]\nd = 1"), "c.0.d", "x")
	f.Add("a.xml", []byte("<a><b c='d'/></a>"), "a.b.@c", "x")
	f.Fuzz(func(t *testing.T, name string, text []byte, path, value string) {
		got, err := Set(name, text, []Field{{path, value}})
		if err == nil && strings.HasSuffix(name, ".json") && json.Valid(text) && !json.Valid(got) {
			t.Errorf("%q became %q", text, got)
		}
		if err == nil && bytes.Equal(got, text) && value == "" {
			return
		}
	})
}
