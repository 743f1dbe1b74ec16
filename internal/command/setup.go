package command

import (
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

// call sends a request and, with --json, prints the answer; else say prints it.
func call[T any](c *cli, cmd *cobra.Command, method, path string, in any, say func(T)) error {
	cl, err := c.client()
	if err != nil {
		return err
	}
	var out T
	if err := cl.Call(cmd.Context(), method, path, in, &out); err != nil {
		return err
	}
	if c.json {
		return c.printJSON(out)
	}
	say(out)
	return nil
}

// listing prints a list as a table, or says what to do when there is nothing.
func listing[T any](c *cli, use, path, empty string, heads []string, row func(*table, T)) *cobra.Command {
	return &cobra.Command{Use: use, Short: "List them", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return call(c, cmd, http.MethodGet, path, nil, func(l client.List[T]) { printList(c, l.List, empty, heads, row) })
	}}
}

func printList[T any](c *cli, list []T, empty string, heads []string, row func(*table, T)) {
	if len(list) == 0 {
		fmt.Fprintln(c.out, empty)
		return
	}
	t := c.table(heads...)
	for _, x := range list {
		row(t, x)
	}
	t.print()
}

func (c *cli) project() *cobra.Command {
	var summary string
	add := &cobra.Command{Use: "add NAME", Short: "Make a project", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodPost, "/api/v1/projects", map[string]string{"name": args[0], "summary": summary}, func(p view.Project) {
			fmt.Fprintf(c.out, "project %s is there; bind its first source: oskeld source add NAME URL --project %s\n", p.Name, p.Name)
		})
	}}
	add.Flags().StringVar(&summary, "summary", "", "one line for people")
	list := listing(c, "list", "/api/v1/projects", "no project yet: oskeld project add NAME", []string{"project", "summary", ">places at most", "since"},
		func(t *table, p view.Project) {
			most := "no limit"
			if p.MostPlaces > 0 {
				most = strconv.Itoa(p.MostPlaces)
			}
			t.row(cell{p.Name, strong}, p.Summary, most, ago(p.CreatedAt))
		})
	var places int
	set := &cobra.Command{Use: "set NAME --places N", Short: "Limit how many places a project's builds may have at a time", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodPut, "/api/v1/projects/"+args[0], map[string]int{"most_places": places}, func(p view.Project) {
			if p.MostPlaces == 0 {
				fmt.Fprintf(c.out, "builds of %s may have all places\n", p.Name)
				return
			}
			fmt.Fprintf(c.out, "builds of %s may have %d places at a time\n", p.Name, p.MostPlaces)
		})
	}}
	set.Flags().IntVar(&places, "places", 0, "so many; 0 for no limit")
	_ = set.MarkFlagRequired("places")
	member := &cobra.Command{Use: "member PROJECT [PERSON ROLE]", Short: "List a project's people, or give one a role: read, build, promote, manage, none",
		Args: cobra.MatchAll(cobra.RangeArgs(1, 3), func(_ *cobra.Command, args []string) error {
			if len(args) == 2 {
				return fault.Invalid("which role?").Hint("read, build, promote, manage or none")
			}
			return nil
		}), RunE: func(cmd *cobra.Command, args []string) error {
			path := "/api/v1/projects/" + args[0] + "/members"
			if len(args) == 1 {
				return call(c, cmd, http.MethodGet, path, nil, func(l client.List[view.Member]) {
					printList(c, l.List, "nobody yet", []string{"person", "role"}, func(t *table, m view.Member) { t.row(m.Person, m.Role) })
				})
			}
			return call(c, cmd, http.MethodPut, path, map[string]string{"person": args[1], "role": args[2]}, func(any) {
				fmt.Fprintf(c.out, "%s: %s in %s\n", args[1], args[2], args[0])
			})
		}}
	return group("project", "People, pipelines and stores that belong together", add, list, set, member)
}

func (c *cli) source() *cobra.Command {
	var project string
	add := &cobra.Command{Use: "add NAME URL", Short: "Bind a git repository; says at once whether it answers", Args: cobra.ExactArgs(2),
		Example: "  oskeld source add hivebook https://git.example/hivebook.git --project heath\n  oskeld source add hivebook git@git.example:hivebook.git --project heath --key-stdin < id_ed25519"}
	body := c.sourceFlags(add)
	add.Flags().StringVar(&project, "project", "", "the project it belongs to")
	_ = add.MarkFlagRequired("project")
	add.RunE = func(cmd *cobra.Command, args []string) error {
		b, err := body()
		if err != nil {
			return err
		}
		b["project"], b["name"], b["url"] = project, args[0], args[1]
		return call(c, cmd, http.MethodPost, "/api/v1/sources", b, c.sayLook)
	}
	set := &cobra.Command{Use: "set NAME", Short: "Change a source's address, credential or trusted refs", Args: cobra.ExactArgs(1)}
	setBody := c.sourceFlags(set)
	address := set.Flags().String("url", "", "its new address")
	set.RunE = func(cmd *cobra.Command, args []string) error {
		b, err := setBody()
		if err != nil {
			return err
		}
		b["url"] = *address
		return call(c, cmd, http.MethodPut, "/api/v1/sources/"+args[0], b, c.sayLook)
	}
	list := listing(c, "list", "/api/v1/sources", "no source yet: oskeld source add NAME URL --project PROJECT",
		[]string{"source", "project", "address", "credential", "trusts"}, func(t *table, s view.Source) {
			t.row(cell{s.Name, strong}, s.Project, s.URL, s.Credential, strings.Join(s.Trusted, " "))
		})
	show := &cobra.Command{Use: "show NAME", Short: "Ask a source now which branches and tags it has", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodGet, "/api/v1/sources/"+args[0], nil, c.sayLook)
	}}
	return group("source", "The git repositories that pipelines read", add, list, show, set, c.sourceKey())
}

// sourceFlags adds what add and set have in common; a credential is read from standard input.
func (c *cli) sourceFlags(cmd *cobra.Command) func() (map[string]any, error) {
	user := cmd.Flags().String("user", "", "user name that goes with the password or token")
	password := cmd.Flags().Bool("password-stdin", false, "read a password or token from standard input")
	key := cmd.Flags().Bool("key-stdin", false, "read an SSH private key from standard input")
	open := cmd.Flags().Bool("open", false, "it needs no credential: forget the one that is kept")
	poll := cmd.Flags().String("poll", "", "how often it is looked at for pushes: 30s, 5m, or off (1m)")
	trusted := cmd.Flags().StringArray("trust", nil, "pattern of branches and tags whose builds get secrets (may be repeated)")
	cmd.MarkFlagsMutuallyExclusive("password-stdin", "key-stdin", "open")
	return func() (map[string]any, error) {
		b := map[string]any{"user": *user, "open": *open}
		if *trusted != nil {
			b["trusted"] = *trusted
		}
		if *poll != "" {
			seconds, err := pollSeconds(*poll)
			if err != nil {
				return nil, err
			}
			b["poll_s"] = seconds
		}
		if *password || *key {
			text, err := c.secretInput("credential")
			if err != nil {
				return nil, err
			}
			if text == "" {
				return nil, fault.Invalid("standard input holds no credential")
			}
			b[map[bool]string{true: "password", false: "key"}[*password]] = text
		}
		return b, nil
	}
}

func (c *cli) sayLook(s view.SourceLook) {
	fmt.Fprintf(c.out, "source %s answers: %s\n", c.paint(s.Name, strong), s.URL)
	names := func(refs []view.RefAt) string {
		var list []string
		for i, r := range refs {
			if i == 12 {
				list = append(list, fmt.Sprintf("and %d more", len(refs)-i))
				break
			}
			name := plainText(r.Name)
			if r.Name == s.Default {
				name += " (default)"
			}
			list = append(list, name)
		}
		return strings.Join(list, ", ")
	}
	fmt.Fprintf(c.out, "  %d branches: %s\n", len(s.Branches), firstOf(names(s.Branches), "none"))
	fmt.Fprintf(c.out, "  %d tags: %s\n", len(s.Tags), firstOf(names(s.Tags), "none"))
	fmt.Fprintf(c.out, "  credential: %s; trusts %s (their builds get secrets; change with --trust)\n", s.Credential, strings.Join(s.Trusted, ", "))
	fmt.Fprintf(c.out, "  %s\n", watched(s.Source))
	if s.Trouble != "" {
		fmt.Fprintf(c.out, "  %s\n", c.paint("when it was looked at last, it did not answer: "+plainText(s.Trouble), red))
	}
}

func (c *cli) pipeline() *cobra.Command {
	var source, file string
	add := &cobra.Command{Use: "add NAME --source SOURCE", Short: "Bind a pipeline file of a source", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		in := map[string]string{"name": args[0], "source": source, "file": file}
		return call(c, cmd, http.MethodPost, "/api/v1/pipelines", in, func(p view.Pipeline) {
			fmt.Fprintf(c.out, "pipeline %s reads %s of source %s; start it: oskeld start %s --follow\n", p.Name, p.File, p.Source, p.Name)
		})
	}}
	add.Flags().StringVar(&source, "source", "", "the source that has the file")
	add.Flags().StringVar(&file, "file", "", "its path there (oskeld.toml)")
	_ = add.MarkFlagRequired("source")
	list := listing(c, "list", "/api/v1/pipelines", "no pipeline yet: oskeld pipeline add NAME --source SOURCE",
		[]string{"pipeline", "last", "version", "when", "summary"}, func(t *table, p view.Pipeline) {
			if p.Last == nil {
				t.row(cell{p.Name, strong}, "not built yet", "", "", p.Summary)
				return
			}
			t.row(cell{p.Name, strong}, cell{fmt.Sprintf("%s %s %d", marks[p.Last.State].mark, p.Last.State, p.Last.Number), marks[p.Last.State].colour},
				p.Last.Version, ago(p.Last.CreatedAt), p.Summary)
		})
	return group("pipeline", "What is built, and by which file", add, list, c.pipelineShow(), c.pipelineSet())
}

func (c *cli) store() *cobra.Command {
	add := &cobra.Command{Use: "add NAME", Short: "Make a store, plain or from a file of settings", Args: cobra.ExactArgs(1)}
	text := c.storeFlags(add)
	project := add.Flags().String("project", "", "the project it belongs to")
	_ = add.MarkFlagRequired("project")
	add.RunE = func(cmd *cobra.Command, args []string) error {
		settings, err := text(view.Store{Name: args[0], Format: "files", Rewrite: "same"})
		if err != nil {
			return err
		}
		return call(c, cmd, http.MethodPost, "/api/v1/stores", map[string]string{"project": *project, "file": settings}, c.sayStore)
	}
	set := &cobra.Command{Use: "set NAME", Short: "Change what the flags name, or replace all settings by a file's", Args: cobra.ExactArgs(1)}
	setText := c.storeFlags(set)
	set.RunE = func(cmd *cobra.Command, args []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		var now view.Store
		if err := cl.Call(cmd.Context(), http.MethodGet, "/api/v1/stores/"+args[0], nil, &now); err != nil {
			return err
		}
		settings, err := setText(now)
		if err != nil {
			return err
		}
		return call(c, cmd, http.MethodPut, "/api/v1/stores/"+args[0], map[string]string{"file": settings}, c.sayStore)
	}
	list := listing(c, "list", "/api/v1/stores", "no store yet: oskeld store add NAME --project PROJECT",
		[]string{"store", "format", "rewrite", "admits from", ">rules", ">names", ">versions", ">size", "summary"}, func(t *table, s view.Store) {
			t.row(cell{s.Name, strong}, s.Format, s.Rewrite, strings.Join(s.From, " "), len(s.Rules), s.Names, s.Versions, size(s.Size), s.Summary)
		})
	show := &cobra.Command{Use: "show NAME", Short: "Show a store's settings and rules", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodGet, "/api/v1/stores/"+args[0], nil, c.sayStore)
	}}
	return group("store", "Places for artifacts", add, list, show, set)
}

// storeFlags gives settings as TOML: the file's, or those that there are with the flags' changes.
func (c *cli) storeFlags(cmd *cobra.Command) func(now view.Store) (string, error) {
	f := cmd.Flags()
	file := f.String("file", "", "TOML file with store, format, rewrite, from, rank, outside, tools, admit_pipelines, admit_refs and [[rule]]")
	summary := f.String("summary", "", "one line for people")
	rewrite := f.String("rewrite", "same", "never, same or always")
	outside := f.Bool("outside", false, "admit builds of refs that their source does not trust")
	tools := f.Bool("tools", false, "agents of every project are equipped from it")
	given, admits := admitFlags(cmd, "whose builds may deliver into it, or be equipped from it")
	for _, flag := range []string{"summary", "rewrite", "outside", "tools", "admit-pipeline", "admit-ref", "admit-all"} {
		cmd.MarkFlagsMutuallyExclusive("file", flag)
	}
	return func(now view.Store) (string, error) {
		if *file == "" {
			if f.Changed("summary") {
				now.Summary = *summary
			}
			if f.Changed("rewrite") {
				now.Rewrite = *rewrite
			}
			if f.Changed("outside") {
				now.Outside = *outside
			}
			if f.Changed("tools") {
				now.Tools = *tools
			}
			if given() {
				now.Admits = admits()
			}
			text, err := service.WriteStoreFile(now)
			return string(text), err
		}
		text, err := os.ReadFile(*file)
		if err != nil {
			return "", fault.Invalid("the store's file cannot be read: %v", err)
		}
		says, _, err := service.ReadStoreFile(text)
		if err == nil && says != now.Name {
			err = fault.Invalid("%s describes store %q, not %q", *file, says, now.Name)
		}
		return string(text), err
	}
}

func (c *cli) sayStore(s view.Store) {
	fmt.Fprintf(c.out, "store %s: format %s, rewrite %s\n", c.paint(s.Name, strong), s.Format, s.Rewrite)
	if s.Tools {
		fmt.Fprintln(c.out, "  agents are equipped from it")
	}
	if !s.Admits.All() {
		fmt.Fprintf(c.out, "  is there for %s\n", s.Admits)
	}
	if len(s.From) > 0 {
		fmt.Fprintf(c.out, "  admits from %s, when:\n", strings.Join(s.From, ", "))
	}
	for _, r := range s.Rules {
		fmt.Fprintf(c.out, "  ◇ %s  %s\n", r.Say, c.paint(r.That, faint))
	}
	if s.Versions > 0 {
		fmt.Fprintf(c.out, "  %d versions of %d names, %s\n", s.Versions, s.Names, size(s.Size))
	}
}

func (c *cli) person() *cobra.Command {
	var shown string
	var owner bool
	add := &cobra.Command{Use: "add NAME", Short: "Make an account; its password comes from standard input", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		password, err := c.secretInput("password for " + args[0])
		if err != nil {
			return err
		}
		in := map[string]any{"name": args[0], "shown": shown, "password": password, "owner": owner}
		return call(c, cmd, http.MethodPost, "/api/v1/people", in, func(any) {
			fmt.Fprintf(c.out, "%s may sign in; give a role: oskeld project member PROJECT %s build\n", args[0], args[0])
		})
	}}
	add.Flags().StringVar(&shown, "shown", "", "the name as people write it")
	add.Flags().BoolVar(&owner, "owner", false, "may do everything on this service")
	list := listing(c, "list", "/api/v1/people", "nobody yet", []string{"name", "shown", "owner", "since"}, func(t *table, p view.Person) {
		t.row(cell{p.Name, strong}, p.Shown, map[bool]string{true: "owner"}[p.Owner], ago(p.CreatedAt))
	})
	password := &cobra.Command{Use: "password", Short: "Change your password: the old one and the new one on standard input, a line each", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		old, fresh, err := c.twoSecrets()
		if err != nil {
			return err
		}
		return call(c, cmd, http.MethodPut, "/api/v1/password", map[string]string{"old": old, "new": fresh}, func(any) {
			fmt.Fprintln(c.out, "your password is changed; your other sessions have ended")
		})
	}}
	return group("person", "Accounts", add, list, password)
}

func (c *cli) token() *cobra.Command {
	var scope string
	var hours int
	add := &cobra.Command{Use: "add NAME", Short: "Make a token for a program; it is shown once", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		in := map[string]any{"name": args[0], "scope": scope, "hours": hours}
		return call(c, cmd, http.MethodPost, "/api/v1/tokens", in, func(out struct {
			Token string `json:"token"`
		}) {
			fmt.Fprintln(c.out, out.Token)
			if !c.quiet {
				fmt.Fprintln(c.err, "it is not shown again; give it to the program in OSKELD_TOKEN")
			}
		})
	}}
	add.Flags().StringVar(&scope, "scope", "read", "read, build or all")
	add.Flags().IntVar(&hours, "hours", 24*30, "how long it lasts")
	list := listing(c, "list", "/api/v1/tokens", "no token yet: oskeld token add NAME", []string{"id", "name", "scope", "ends"}, func(t *table, x view.Token) {
		t.row(x.ID, x.Name, x.Scope, x.EndsAt.Local().Format("2 Jan 2006 15:04"))
	})
	remove := &cobra.Command{Use: "remove ID", Short: "End a token at once", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		return call(c, cmd, http.MethodDelete, "/api/v1/tokens/"+args[0], nil, func(any) { fmt.Fprintln(c.out, "the token has ended") })
	}}
	return group("token", "What programs sign in with", add, list, remove)
}
