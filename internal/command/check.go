package command

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
)

func (c *cli) check() *cobra.Command {
	return &cobra.Command{Use: "check [FILE | DIRECTORY | -]", Short: "Tell every mistake in a pipeline file", Args: cobra.MaximumNArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		name := "."
		if len(args) == 1 {
			name = args[0]
		}
		file, text, err := c.readPipeline(name)
		if err != nil {
			return err
		}
		p, diagnostics := language.Read(file, text)
		if c.json {
			if diagnostics == nil {
				diagnostics = language.Diagnostics{}
			}
			if err := c.printJSON(diagnostics); err != nil {
				return err
			}
		} else {
			for _, d := range diagnostics {
				kind, colour := "error "+d.Code, red
				if d.Warning() {
					kind, colour = "warning "+d.Code, ochre
				}
				fmt.Fprint(c.out, strings.Replace(d.Text(), kind, c.paint(kind, colour), 1))
			}
		}
		if n := diagnostics.Errors(); n > 0 {
			if !c.json {
				fmt.Fprintf(c.out, "%d errors, %d warnings\n", n, len(diagnostics)-n)
			}
			return errNotPassed
		}
		if c.json {
			return nil
		}
		planned, err := plan.Make(p)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s is right: pipeline %s, %d stages in %d chains, %d warnings\n%s", file, p.Name, len(p.Stages), len(planned.Chains), len(diagnostics), planned)
		return nil
	}}
}

func (c *cli) readPipeline(name string) (file string, text []byte, err error) {
	if name == "-" {
		text, err = io.ReadAll(io.LimitReader(c.in, language.MostBytes+1))
		return "standard input", text, err
	}
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		name = filepath.Join(name, language.FileName)
	}
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, fault.Missing("there is no %s", name).Hint("write one; docs/pipeline-file.md begins with a whole example")
	}
	if err != nil {
		return "", nil, err
	}
	defer f.Close()
	text, err = io.ReadAll(io.LimitReader(f, language.MostBytes+1))
	return name, text, err
}
