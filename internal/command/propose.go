package command

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/proposal"
	"oskeld.dev/oskeld/internal/git"
)

// mostNames is how many files of a tree are looked at.
const mostNames = 200_000

func (c *cli) propose() *cobra.Command {
	var all, force, print bool
	var answers []string
	var store string
	cmd := &cobra.Command{Use: "propose [DIRECTORY]", Short: "Look at what is here and write a pipeline file for it", Args: cobra.MaximumNArgs(1),
		Long:    "Look at what is here and write an oskeld.toml that check accepts and rehearse runs. Known are Go, npm,\npnpm, yarn, Make, CMake, Cargo, Python, Maven, Gradle and .NET, also several in one tree.",
		Example: "  oskeld propose\n  oskeld propose --all --print | less\n  oskeld propose --answer tool=make --force"}
	cmd.Flags().BoolVar(&all, "all", false, "show rare settings too, as comments")
	cmd.Flags().BoolVar(&force, "force", false, "write over a file that is there")
	cmd.Flags().BoolVar(&print, "print", false, "print the file instead of writing it")
	cmd.Flags().StringArrayVar(&answers, "answer", nil, "KEY=VALUE, to answer a question beforehand; may be repeated")
	cmd.Flags().StringVar(&store, "store", "", "the store that artifacts go to")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		dir, err := fileOrHere(append(args, ".")[0])
		if err != nil {
			return err
		}
		chosen, err := parsePairs("answer", answers)
		if err != nil {
			return err
		}
		target := filepath.Join(dir, language.FileName)
		if _, err := os.Lstat(target); err == nil && !force && !print && !c.json {
			return fault.Refused("%s is there already", target).Hint("--print shows the proposal, --force writes over the file")
		}
		tree, err := lookAt(cmd.Context(), dir, mostNames)
		if err != nil {
			return err
		}
		o := proposal.Options{All: all, Store: store, Answers: chosen}
		p := proposal.Make(tree, o)
		if err := knownAnswers(p, chosen); err != nil {
			return err
		}
		if p, err = c.answer(tree, o, p); err != nil {
			return err
		}
		switch {
		case c.json:
			return c.printJSON(p)
		case print:
			_, err = fmt.Fprint(c.out, p.Text)
			return err
		}
		if err := os.WriteFile(target, []byte(p.Text), 0o644); err != nil {
			return fault.Refused("%s cannot be written: %v", target, err).Hint("--print shows the proposal")
		}
		c.sayProposal(target, p)
		return nil
	}
	return cmd
}

func (c *cli) sayProposal(target string, p proposal.Proposal) {
	fmt.Fprintf(c.out, "%s wrote %s\n", c.paint("◆", green), target)
	for _, f := range p.Found {
		fmt.Fprintf(c.out, "  found %s\n", f)
	}
	for _, q := range p.Questions {
		if q.Open {
			fmt.Fprintf(c.out, "  %s %s it took %s; --answer %s=… settles it (%s)\n", c.paint("not sure:", ochre), q.Text, c.paint(q.Chosen, strong), q.Key, strings.Join(q.Choices, ", "))
		}
	}
	for _, n := range p.Notes {
		fmt.Fprintf(c.out, "  %s %s\n", c.paint("note:", ochre), n)
	}
	fmt.Fprintln(c.out, "next: oskeld check, then oskeld rehearse")
}

func knownAnswers(p proposal.Proposal, chosen map[string]string) error {
	for key, value := range chosen {
		i := slices.IndexFunc(p.Questions, func(q proposal.Question) bool { return q.Key == key })
		if i < 0 {
			return fault.Invalid("nothing asks for %q here", key).Hint("the questions that there are stand at the end of what propose prints")
		}
		if !slices.Contains(p.Questions[i].Choices, value) {
			return fault.Invalid("%q is not an answer to %q", value, key).Hint("one of %s", strings.Join(p.Questions[i].Choices, ", "))
		}
	}
	return nil
}

// answer puts the questions that are open to whoever sits at the terminal, until none is left.
func (c *cli) answer(tree proposal.Tree, o proposal.Options, p proposal.Proposal) (proposal.Proposal, error) {
	in, ok := c.in.(*os.File)
	if !c.terminal() || c.json || !ok || !term.IsTerminal(int(in.Fd())) {
		return p, nil
	}
	lines := bufio.NewReader(in)
	for {
		i := slices.IndexFunc(p.Questions, func(q proposal.Question) bool { return q.Open })
		if i < 0 {
			return p, nil
		}
		q := p.Questions[i]
		fmt.Fprintln(c.out, q.Text)
		for n, choice := range q.Choices {
			fmt.Fprintf(c.out, "  %d  %s\n", n+1, choice)
		}
		fmt.Fprintf(c.out, "number [1]: ")
		line, err := lines.ReadString('\n')
		if err != nil {
			return p, fault.Invalid("nobody answered").Hint("--answer %s=%s does beforehand", q.Key, q.Chosen)
		}
		n, err := strconv.Atoi(strings.TrimSpace(line))
		if strings.TrimSpace(line) == "" {
			n, err = 1, nil
		}
		if err != nil || n < 1 || n > len(q.Choices) {
			fmt.Fprintf(c.out, "a number from 1 to %d, please\n", len(q.Choices))
			continue
		}
		if o.Answers == nil {
			o.Answers = map[string]string{}
		}
		o.Answers[q.Key] = q.Choices[n-1]
		p = proposal.Make(tree, o)
	}
}

// lookAt lists what a directory holds, at most most files: what git tracks or does not ignore, else
// what lies there.
func lookAt(ctx context.Context, dir string, most int) (proposal.Tree, error) {
	t := proposal.Tree{Name: filepath.Base(dir), Read: func(name string) ([]byte, error) {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() || info.Size() > 1<<20 {
			return nil, errors.New("not a small file")
		}
		return os.ReadFile(path)
	}}
	if here, err := git.Find(ctx, dir); err == nil && here.Root == realPath(dir) {
		if t.Names, err = here.Files(ctx); err != nil {
			return t, err
		}
		if t.Tags, err = here.Tags(ctx); err != nil {
			return t, err
		}
		t.Name = here.Name()
		t.Cut = len(t.Names) > most
		t.Names = t.Names[:min(len(t.Names), most)]
		return t, nil
	}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil && path == dir:
			return fault.Refused("%s cannot be read: %v", dir, err)
		case err != nil:
			return nil // what may not be read is not proposed for
		case d.IsDir() && path != dir && slices.Contains([]string{".git", ".oskeld", "node_modules", ".venv", "vendor"}, d.Name()):
			return fs.SkipDir
		case d.IsDir():
			return nil
		case len(t.Names) == most:
			t.Cut = true
			return fs.SkipAll
		}
		rel, err := filepath.Rel(dir, path)
		t.Names = append(t.Names, filepath.ToSlash(rel))
		return err
	})
	return t, err
}

func realPath(dir string) string {
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		return real
	}
	return dir
}
