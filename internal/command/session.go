package command

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

// session is what login keeps for the commands that follow.
type session struct {
	Service string `json:"service"`
	Token   string `json:"token"`
}

func sessionPath() (string, error) {
	if path := os.Getenv("OSKELD_SESSION"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", nil // no home, as in a step: the environment must do
	}
	return filepath.Join(dir, "oskeld", "session.json"), nil
}

func loadSession() (s session, err error) {
	path, err := sessionPath()
	if err != nil || path == "" {
		return s, err
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(text, &s); err != nil {
		return s, fault.Invalid("%s cannot be read: %v", path, err).Hint("remove it and sign in again: oskeld login")
	}
	return s, nil
}

func saveSession(s session) error {
	path, err := sessionPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

// secretInput reads a secret from the terminal without showing it, or from standard input; one
// line feed at its end does not count.
func (c *cli) secretInput(prompt string) (string, error) {
	if f, ok := c.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(c.err, prompt+": ")
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(c.err)
		return string(text), err
	}
	text, err := io.ReadAll(io.LimitReader(c.in, 1<<20))
	return strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r"), err
}

// twoSecrets reads an old and a new secret, from the terminal or as two lines of standard input.
func (c *cli) twoSecrets() (old, fresh string, err error) {
	if f, ok := c.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if old, err = c.secretInput("old password"); err == nil {
			fresh, err = c.secretInput("new password")
		}
		return old, fresh, err
	}
	text, err := c.secretInput("")
	old, fresh, ok := strings.Cut(text, "\n")
	if err == nil && !ok {
		err = fault.Invalid("standard input holds one line").Hint("the old password, then the new one, a line each")
	}
	return strings.TrimSuffix(old, "\r"), fresh, err
}

func (c *cli) login() *cobra.Command {
	var name string
	cmd := &cobra.Command{Use: "login", Short: "Sign in to a service", Args: cobra.NoArgs,
		Example: "  oskeld login --service http://127.0.0.1:7080 --name ida < password-file"}
	cmd.Flags().StringVar(&name, "name", os.Getenv("OSKELD_NAME"), "your name there")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		saved, err := loadSession()
		if err != nil {
			return err
		}
		address := firstOf(c.service, os.Getenv("OSKELD_SERVICE"), saved.Service, defaultService)
		if name == "" {
			f, ok := c.in.(*os.File)
			if !ok || !term.IsTerminal(int(f.Fd())) {
				return fault.Invalid("who signs in?").Hint("--name NAME, with the password on standard input")
			}
			fmt.Fprint(c.err, "name: ")
			line, err := bufio.NewReader(f).ReadString('\n')
			if err != nil {
				return err
			}
			name = strings.TrimSpace(line)
		}
		password, err := c.secretInput("password")
		if err != nil {
			return err
		}
		var out struct {
			Token string `json:"token"`
		}
		if err := client.New(address, "").Call(cmd.Context(), http.MethodPost, "/api/v1/session", map[string]string{"name": name, "password": password}, &out); err != nil {
			return err
		}
		if err := saveSession(session{address, out.Token}); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "signed in to %s as %s, for 12 hours\n", address, name)
		return nil
	}
	return cmd
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

func (c *cli) logout() *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "Sign out", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		if err := cl.Call(cmd.Context(), http.MethodDelete, "/api/v1/session", nil, nil); err != nil && !fault.Is(err, fault.KindUnknown) {
			return err
		}
		if err := saveSession(session{Service: cl.Service}); err != nil {
			return err
		}
		fmt.Fprintln(c.out, "signed out of", cl.Service)
		return nil
	}}
}

func (c *cli) status() *cobra.Command {
	var key bool
	cmd := &cobra.Command{Use: "status", Short: "Who you are, and how the service is", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&key, "key", false, "print the public key that provenance is checked with, as PEM")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		cl, err := c.client()
		if err != nil {
			return err
		}
		var s view.Status
		if err := cl.Call(cmd.Context(), http.MethodGet, "/api/v1/status", nil, &s); err != nil {
			return err
		}
		switch {
		case key:
			fmt.Fprint(c.out, s.PublicKey)
			return nil
		case c.json:
			return c.printJSON(s)
		}
		fmt.Fprintf(c.out, "%s, version %s\n", cl.Service, s.Service)
		role := ""
		if s.Owner {
			role = ", an owner of the service"
		}
		fmt.Fprintf(c.out, "signed in as %s%s\n", s.Person, role)
		agents, err := client.Get[view.Agent](cmd.Context(), cl, "/api/v1/agents")
		if err != nil {
			return err
		}
		here, places := 0, 0
		for _, a := range agents {
			if a.Here {
				here++
				places += a.Places
			}
		}
		fmt.Fprintf(c.out, "%d of %d agents here, with %d places\n", here, len(agents), places)
		return nil
	}
	return cmd
}
