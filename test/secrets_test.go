package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

const signing = "secrets = [\"KEY\"]\n[stage.sign]\nsecrets = [\"KEY\"]\nscript = \"test $KEY = $WANT || { echo other; exit 1; }; echo signed with $KEY\"\n"

// A secret of a pipeline stands before the project's; one admits pipelines and refs; who got which is recorded.
func TestSecretsAdmit(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	w.pipeline("hivebook", "env = { WANT = \"own-honey\" }\n"+signing)
	nectar := w.pipeline("nectar", "env = { WANT = \"shared-honey\" }\n"+signing)
	w.refused(4, "secret KEY is missing", "start", "hivebook")
	w.input("shared-honey", "secret", "set", "KEY", "--project", "heath")
	w.input("own-honey", "secret", "set", "KEY", "--project", "heath", "--pipeline", "hivebook")
	for _, p := range []string{"hivebook", "nectar"} {
		b := w.start(p, "")
		if d := w.await(b); d.State != progress.Passed || !strings.Contains(w.said(b, 0), "signed with •••") {
			t.Errorf("%s: %s %s", p, d.Cause, w.said(b, 0))
		}
	}
	if out := w.ok("records", "nectar/1"); !strings.Contains(out, "secrets given") || !strings.Contains(out, "KEY") || !strings.Contains(out, "barrow") {
		t.Error(out)
	}
	w.input("shared-honey", "secret", "set", "KEY", "--project", "heath", "--admit-pipeline", "hivebook")
	w.refused(4, "which admits hivebook and not pipeline nectar", "start", "nectar")
	w.input("shared-honey", "secret", "set", "KEY", "--project", "heath", "--admit-pipeline", "nectar", "--admit-ref", "v*")
	w.refused(4, "which admits v* and not main", "start", "nectar")
	nectar.git("tag", "v1.0.0")
	if d := w.await(w.start("nectar", "v1.0.0")); d.State != progress.Passed {
		t.Error(d.Cause)
	}
	if out := w.ok("secret", "list", "--project", "heath"); !strings.Contains(out, "pipeline hivebook") || !strings.Contains(out, "nectar, v*") || strings.Contains(out, "honey") {
		t.Error(out)
	}
	w.refused(3, `no pipeline "nobody"`, "secret", "remove", "KEY", "--project", "heath", "--pipeline", "nobody")
	w.ok("secret", "remove", "KEY", "--project", "heath", "--pipeline", "hivebook")
	w.refused(4, "which admits nectar and not pipeline hivebook", "start", "hivebook")
	w.refused(3, "no secret", "secret", "remove", "KEY", "--project", "heath", "--pipeline", "hivebook")
	if out, code := w.run("x", "secret", "set", "K2", "--project", "heath", "--pipeline", "hivebook", "--admit-pipeline", "nectar"); code != 2 || !strings.Contains(out, "admits no others") {
		t.Errorf("%d %s", code, out)
	}
	if out, code := w.run("x", "secret", "set", "K2", "--project", "heath", "--admit-ref", "["); code != 2 || !strings.Contains(out, "not a pattern") {
		t.Errorf("%d %s", code, out)
	}
}

// The key is changed while no service runs; a call that was cut off after the change is brought to its end.
func TestRekey(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	w.pipeline("hivebook", "env = { WANT = \"own-honey\" }\n"+signing)
	w.input("own-honey", "secret", "set", "KEY", "--project", "heath")
	key := filepath.Join(w.dir, "service", "key")
	before, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	rekey := func() (string, error) {
		cmd := exec.Command(program, "rekey", "--dir", filepath.Join(w.dir, "service"))
		cmd.Env = append(os.Environ(), "OSKELD_DATABASE="+w.database)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if out, err := rekey(); err == nil || !strings.Contains(out, "a service runs on this database") {
		t.Fatalf("%v %s", err, out)
	}
	w.service.stop()
	if out, err := rekey(); err != nil || !strings.Contains(out, "3 values are sealed with the new key") {
		t.Fatalf("%v %s", err, out)
	}
	after, _ := os.ReadFile(key)
	if string(after) == string(before) {
		t.Error("the key is the old one")
	}
	// As if the call had been cut off before the new key took the old one's place.
	for name, text := range map[string][]byte{key: before, key + ".next": after} {
		if err := os.WriteFile(name, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := rekey(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	w.serve()
	if d := w.await(w.start("hivebook", "")); d.State != progress.Passed {
		t.Error(d.Cause)
	}
	w.service.stop()
	if err := os.WriteFile(key, []byte(strings.Repeat("ab", 32)+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := rekey(); err == nil || !strings.Contains(out, "the key does not fit this database") {
		t.Errorf("%v %s", err, out)
	}
}
