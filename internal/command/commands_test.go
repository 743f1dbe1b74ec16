package command

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// docs/commands.md is the command line as it is. UPDATE=1 go test ./internal/command writes it anew.
func TestCommandsPage(t *testing.T) {
	const path = "../../docs/commands.md"
	var b bytes.Buffer
	b.WriteString("# Commands\n\nMade from the program: `UPDATE=1 go test ./internal/command`. Words come before flags. Every command takes `--json` (the API's own shapes), `--quiet` and `--service ADDRESS`.\n\n" +
		"Exit codes: 0 done · 1 it ran and did not pass · 2 wrong usage · 3 not found · 4 refused (rule, right, taken, not signed in) · 5 service out of reach.\n\n" +
		"Secrets come from standard input, a file or the environment, never from an argument. `OSKELD_SERVICE` and `OSKELD_TOKEN` stand in for a login; inside a step they are set.\n")
	root := (&cli{}).root()
	for _, g := range root.Groups() {
		fmt.Fprintf(&b, "\n## %s\n", strings.TrimSuffix(g.Title, ":"))
		for _, c := range root.Commands() {
			if c.GroupID == g.ID {
				describeCommand(&b, c)
			}
		}
	}
	now := b.Bytes()
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, now, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(kept, now) {
		t.Error("docs/commands.md is not the command line as it is: UPDATE=1 go test ./internal/command")
	}
}

func describeCommand(b *bytes.Buffer, c *cobra.Command) {
	if c.HasSubCommands() {
		fmt.Fprintf(b, "\n### oskeld %s\n%s.\n", strings.TrimPrefix(c.CommandPath(), "oskeld "), c.Short)
		for _, sub := range c.Commands() {
			describeCommand(b, sub)
		}
		return
	}
	fmt.Fprintf(b, "\n**`%s`** %s.\n", strings.TrimSuffix(c.UseLine(), " [flags]"), c.Short)
	if c.Long != "" {
		fmt.Fprintf(b, "%s\n", c.Long)
	}
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		usual := "" // of a name or directory it depends on the machine
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && f.Name != "name" && f.Name != "dir" {
			usual = fmt.Sprintf(" (usually %s)", f.DefValue)
		}
		if f.Name != "help" {
			fmt.Fprintf(b, "- `--%s` %s%s\n", f.Name, f.Usage, usual)
		}
	})
	if c.Example != "" {
		fmt.Fprintf(b, "```\n%s\n```\n", strings.TrimRight(c.Example, "\n"))
	}
}

// Every command says in one line what it does, and refuses words that it does not know.
func TestCommandsAreTold(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Short == "" {
			t.Errorf("%s says nothing of itself", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk((&cli{}).root())
	for _, args := range [][]string{{"nonsense"}, {"source", "nonsense"}, {"show"}, {"show", "hivebook"}, {"start"}, {"check", "/nonexistent"}, {"builds", "--nonsense"}} {
		var out, errs bytes.Buffer
		t.Setenv("OSKELD_SESSION", t.TempDir()+"/none")
		t.Setenv("OSKELD_TOKEN", "")
		if code := Run(t.Context(), args, strings.NewReader(""), &out, &errs); code != exitUsage && code != exitMissing {
			t.Errorf("%v: exit %d: %s", args, code, errs.String())
		}
		if !strings.HasPrefix(errs.String(), "oskeld: ") || strings.Contains(errs.String(), "goroutine") {
			t.Errorf("%v says %q", args, errs.String())
		}
	}
}

func TestCheckCommand(t *testing.T) {
	check := func(text string) (string, int) {
		var out, errs bytes.Buffer
		code := Run(t.Context(), []string{"check", "-"}, strings.NewReader(text), &out, &errs)
		return out.String() + errs.String(), code
	}
	if out, code := check("pipeline = \"hive\"\n[stage.a]\nscript = \"true\"\n"); code != 0 || !strings.Contains(out, "is right: pipeline hive, 1 stage, 1 stage run in 1 chain") {
		t.Errorf("%d %s", code, out)
	}
	out, code := check("pipeline = \"hive\"\n[stage.a]\nscirpt = \"true\"\nlimit = \"x\"\n")
	if code != 1 || !strings.Contains(out, "did you mean \"script\"?") || !strings.Contains(out, "S113") || !strings.Contains(out, "2 errors") {
		t.Errorf("%d %s", code, out)
	}
}

func TestWords(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1500: "1.5 kB", 14_200_000: "14.2 MB", 2_500_000_000: "2.50 GB"} {
		if got := size(n); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
	for ms, want := range map[int64]string{0: "0.0 s", 9_900: "9.9 s", 47_000: "47 s", 112_000: "1 min 52 s", 3_700_000: "1 h 01 min"} {
		if got := took(ms); got != want {
			t.Errorf("%d: %s", ms, got)
		}
	}
	if got := middle("intake/hivebook@1.4.1-main.57", 15); got != "intake/…main.57" {
		t.Error(got)
	}
	if got := plainText("a\x1b[31mb\x07c\u009bd\te"); got != "a[31mbcd\te" {
		t.Errorf("%q", got)
	}
}
