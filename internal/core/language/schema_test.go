package language

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// byTheSchema tells what the JSON Schema says of a file, as an editor would.
func byTheSchema(t *testing.T, text string) error {
	t.Helper()
	made, err := json.Marshal(Schema(PipelineShape))
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.UnmarshalJSON(strings.NewReader(string(made)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(SchemaID, schema); err != nil {
		t.Fatal(err)
	}
	compiled, err := c.Compile(SchemaID)
	if err != nil {
		t.Fatal(err)
	}
	var doc map[string]any
	if err := toml.Unmarshal([]byte(text), &doc); err != nil {
		t.Fatal(err)
	}
	plain, err := json.Marshal(doc)
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(plain)))
	if err != nil {
		t.Fatal(err)
	}
	return compiled.Validate(value)
}

// The reader and the schema take the same files: whatever is right, and of what is wrong all that is
// a matter of keys and forms.
func TestSchemaAgrees(t *testing.T) {
	everything, err := os.ReadFile("testdata/everything.toml")
	if err != nil {
		t.Fatal(err)
	}
	right := []string{whole, string(everything)}
	stage := "pipeline = \"p\"\n[stage.a]\nscript = \"x\"\n"
	step := "pipeline = \"p\"\n[stage.a]\n[[stage.a.step]]\n"
	wrong := []string{
		"", "pipeline = \"p\"\n", "pipeline = \"p\"\nstage = {}\n", "pipeline = 3\n" + stage[len("pipeline = \"p\"\n"):], "pipelin = \"p\"\n" + stage,
		stage + "scirpt = \"x\"\n", stage + "carry = \"x\"\n", stage + "carry = [1]\n", stage + "purpose = \"tset\"\n", stage + "limit = \"ten\"\n", stage + "limit = \"-1s\"\n",
		stage + "tries = 0\n", stage + "tries = 11\n", stage + "tries = \"2\"\n", stage + "env = { A = 1 }\n", stage + "env = { \"A B\" = \"x\" }\n", stage + "facts = [\"linux\"]\n",
		stage + "vary = {}\n", stage + "vary = { os = [] }\n", stage + "vary = { os = \"linux\" }\n", stage + "vary = { OS = [\"linux\"] }\n", stage + "vary = { os = [\"a\"] }\nomit = [{}]\n",
		stage + "omit = [{ os = \"a\" }]\n", stage + "match = [\"os\"]\n", stage + "halt = \"never\"\n", stage + "reuse_with = [\"version\"]\n", stage + "shell = \"fish\"\n", stage + "shell = []\n",
		stage + "cache = [{ dirs = [\"x\"] }]\n", stage + "read = { test = [\"x\"] }\n", stage + "run = \"never\"\n", stage + "alone = \"a b\"\n",
		stage + "after = [\"a\"]\nfollows = \"a\"\n", stage + "[[stage.a.step]]\nscript = \"y\"\n", stage + "[stage.\"a b\"]\nscript = \"x\"\n", "pipeline = \"p\"\nstage = { a = 3 }\n",
		step + "name = \"x\"\n", step + "script = \"x\"\nfetch = { artifact = \"s/a@1\", into = \"d\" }\n", step + "stamp = { file = \"x\" }\n", step + "stamp = { file = \"x\", from = \"y\", set = { a = \"b\" } }\n",
		step + "fetch = { artifact = \"s/a@1\" }\n", step + "shell = \"sh\"\nfetch = { artifact = \"s/a@1\", into = \"d\" }\n", step + "script = \"x\"\nforgive = \"yes\"\n", step + "routine = {}\n", step + "send = { to = \"m\" }\n",
		stage + "[[stage.a.artifact]]\nname = \"a\"\n", stage + "[[stage.a.artifact]]\nname = \"a\"\nstore = \"s\"\npack = \"rar\"\n",
		stage + "[ask.A]\nline = \"\"\n", stage + "[ask.a]\n", stage + "[ask.a]\nline = \"\"\nflag = true\n", stage + "[ask.a]\nline = \"\"\nusual = \"x\"\n", stage + "[ask.a]\nnumber = \"3\"\n", stage + "[ask.a]\nflag = 1\n",
		stage + "[[start]]\n", stage + "[[start]]\npush = [\"a\"]\ntag = [\"b\"]\n", stage + "[[start]]\ntag = [\"b\"]\nunless = [\"x\"]\n", stage + "[[start]]\npush = [\"b\"]\nzone = \"UTC\"\n", stage + "[start]\npush = [\"b\"]\n",
		"overlap = \"wait\"\n" + stage,
	}
	for _, e := range Explanations {
		if e.Right != "" {
			right = append(right, e.Right)
		}
		if e.Wrong != "" && (e.Code == "S101" || e.Code == "S102" || e.Code == "S103" || e.Code == "S112" || e.Code == "S113") {
			wrong = append(wrong, e.Wrong)
		}
	}
	for _, text := range right {
		if p, ds := Read("f", []byte(text)); p == nil {
			t.Errorf("the reader refuses\n%s%s", text, ds.Text())
		}
		if err := byTheSchema(t, text); err != nil {
			t.Errorf("the schema refuses\n%s%v", text, err)
		}
	}
	for _, text := range wrong {
		if p, _ := Read("f", []byte(text)); p != nil {
			t.Errorf("the reader takes\n%s", text)
		}
		if err := byTheSchema(t, text); err == nil {
			t.Errorf("the schema takes\n%s", text)
		}
	}
}
