// Command picture renews docs/screenshots: it plays the demo, photographs the console's pages in
// headless Chromium. The pictures of the command line are made by docs/picture/terminal.
//
//	go run ./docs/picture [-only NAME]
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"oskeld.dev/oskeld/demo"
	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/test/browser"
)

func main() {
	only := flag.String("only", "", "renew only pictures whose name holds this")
	address := flag.String("address", "", "a demo that runs already; else one is started")
	out := flag.String("out", "docs/screenshots", "where to")
	flag.Parse()
	if err := run(*only, *address, *out); err != nil {
		log.Fatal(err)
	}
}

var pages = []struct {
	name, path string
	dark       bool
	width      int64
}{
	{"now", "/", false, 1280},
	{"pipeline", "/pipelines/hivebook", false, 1280},
	{"new-pipeline", "/new-pipeline?source=bloom-desk", false, 1280},
	{"build", "/pipelines/hivebook/5", false, 1280},
	{"build-failed", "/pipelines/hivebook/3", true, 1280},
	{"stores", "/stores", false, 1280},
	{"ladder", "/stores/intake/hivebook", false, 1280},
	{"version", "/stores/shelf/hivebook/1.4.0", false, 1280},
	{"agents", "/agents", true, 1280},
	{"records", "/records", false, 1280},
	{"build-narrow", "/pipelines/hivebook/5", false, 360},
}

func run(only, address, out string) error {
	if address == "" {
		var stop func()
		var err error
		if address, stop, err = startDemo(); err != nil {
			return err
		}
		defer stop()
	}
	chromium, err := browser.Open()
	if err != nil {
		return err
	}
	defer chromium.Close()
	token, err := signIn(address)
	if err != nil {
		return err
	}
	for _, p := range pages {
		if !strings.Contains(p.name, only) {
			continue
		}
		if err := photograph(chromium, browser.View{Address: address, Token: token, Dark: p.dark, Width: p.width}, p.path, filepath.Join(out, p.name+".png")); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		fmt.Println("renewed", p.name)
	}
	return nil
}

func photograph(chromium *browser.Browser, view browser.View, path, file string) error {
	page, err := chromium.Page(view)
	if err != nil {
		return err
	}
	defer page.Close()
	if err := page.Go(path); err != nil {
		return err
	}
	picture, err := page.Picture()
	if err != nil {
		return err
	}
	for _, e := range page.Errors() {
		fmt.Println("the page complains:", e)
	}
	return os.WriteFile(file, picture, 0o644)
}

func startDemo() (address string, stop func(), err error) {
	const port = "7391"
	dir := filepath.Join(os.TempDir(), "oskeld-picture-demo")
	cmd := exec.Command("bin/oskeld", "demo", "--port", port, "--dir", dir)
	reader, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }
	buffer, seen := make([]byte, 4096), ""
	for !strings.Contains(seen, "Ctrl-C ends everything") {
		n, err := reader.Read(buffer)
		if err != nil {
			stop()
			return "", nil, fmt.Errorf("the demo did not start: %s", seen)
		}
		seen += string(buffer[:n])
	}
	address = "http://127.0.0.1:" + port
	if err := addDesk(address, dir); err != nil {
		stop()
		return "", nil, err
	}
	return address, stop, nil
}

// addDesk binds a source that has no pipeline file yet: the calendar, as somebody begins with it.
func addDesk(address, dir string) error {
	desk := filepath.Join(dir, "sources", "bloom-desk")
	if _, err := os.Stat(desk); err == nil {
		return nil
	}
	script := `git clone -q bloom-calendar bloom-desk && cd bloom-desk && git rm -q oskeld.toml && printf 'all:\n\tnode build.js heath 2026\n' > Makefile &&
		git add -A && git -c user.name='Nell Thorpe' -c user.email=nell.thorpe@heath.example commit -qm 'Begin without a pipeline'`
	cmd := exec.Command("sh", "-euc", script)
	cmd.Dir = filepath.Join(dir, "sources")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	token, err := signIn(address)
	if err != nil {
		return err
	}
	body := map[string]string{"project": demo.Project, "name": "bloom-desk", "url": desk}
	return client.New(address, token).Call(context.Background(), http.MethodPost, "/api/v1/sources", body, nil)
}

func signIn(address string) (string, error) {
	var out struct {
		Token string `json:"token"`
	}
	body := map[string]string{"name": "ida", "password": demo.Password}
	err := client.New(address, "").Call(context.Background(), http.MethodPost, "/api/v1/session", body, &out)
	return out.Token, err
}
