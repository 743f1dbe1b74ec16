package test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/service"
	"oskeld.dev/oskeld/internal/web"
)

// Every route names its right, and each role is tried on each: nobody gets further than the right
// allows.
func TestRights(t *testing.T) {
	w := newWorld(t)
	w.pipeline("hivebook", "[stage.a]\nscript = \"true\"\n")
	file := filepath.Join(w.dir, "f.txt")
	if err := os.WriteFile(file, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.ok("deliver", "intake/thing@1", file)
	w.agent("barrow")
	w.await(w.start("hivebook", ""))
	for name, role := range map[string]string{"stranger": "none", "reader": "read", "builder": "build"} {
		if out, code := w.run(password, "person", "add", name); code != 0 {
			t.Fatal(out)
		}
		w.ok("project", "member", "heath", name, role)
	}
	agentFile, err := os.ReadFile(filepath.Join(w.dir, "barrow", "agent.json"))
	if err != nil {
		t.Fatal(err)
	}
	agentToken := strings.Split(strings.Split(string(agentFile), `"token":"`)[1], `"`)[0]
	tokens := map[string]string{"nobody": "", "stranger": w.signInAs("stranger"), "reader": w.signInAs("reader"), "builder": w.signInAs("builder"), "agent": agentToken}
	most := map[string]service.Right{"nobody": service.Open, "stranger": service.Known, "reader": service.Read, "builder": service.BuildIt}
	fill := strings.NewReplacer(":name", "heath", ":secret", "KEY", ":pipeline", "hivebook", ":number", "1", ":run", "0", ":artifact", "thing",
		":digest", strings.Repeat("a", 64), ":store", "intake", "*", "thing/1/f.txt")
	routes := web.Routes()
	if len(routes) < 50 {
		t.Fatalf("only %d routes", len(routes))
	}
	for _, r := range routes {
		path := fill.Replace(r.Path)
		switch { // names that the things of this route have
		case strings.Contains(r.Path, "/pipelines/:name"), strings.Contains(r.Path, "/sources/:name"):
			path = strings.Replace(path, "heath", "hivebook", 1)
		case strings.Contains(r.Path, "/stores/:name"):
			path = strings.Replace(path, "heath", "intake", 1)
		}
		if r.Right == service.Open || strings.HasSuffix(path, "/follow") || strings.HasSuffix(path, "/news") || r.Path == "/agents/take" || r.Path == "/agents/orders" || strings.HasPrefix(r.Path, "/api/v1/session") {
			continue
		}
		for who, token := range tokens {
			request, err := http.NewRequestWithContext(t.Context(), r.Method, w.address+path, strings.NewReader("{}"))
			if err != nil {
				t.Fatal(err)
			}
			if token != "" {
				request.Header.Set("Authorization", "Bearer "+token)
			}
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				t.Fatal(err)
			}
			response.Body.Close()
			good := response.StatusCode < 400
			switch {
			case who == "nobody" && response.StatusCode != http.StatusUnauthorized:
				t.Errorf("%s %s: nobody gets %d", r.Method, path, response.StatusCode)
			case who == "agent" && r.Right != service.AsAgent && good:
				t.Errorf("%s %s (%s): an agent gets %d", r.Method, path, r.Right, response.StatusCode)
			case who != "agent" && r.Right == service.AsAgent && response.StatusCode != http.StatusForbidden && who != "nobody":
				t.Errorf("%s %s: %s gets %d as if an agent", r.Method, path, who, response.StatusCode)
			case who != "agent" && r.Right > most[who] && r.Right < service.AsAgent && good:
				t.Errorf("%s %s needs %q: %s gets %d", r.Method, path, r.Right, who, response.StatusCode)
			case who == "stranger" && good && strings.Contains(r.Path, ":") && r.Right == service.Read:
				t.Errorf("%s %s: a stranger gets %d", r.Method, path, response.StatusCode)
			}
		}
	}
}

// A session's cookie acts only for our own pages, and a token only within its scope.
func TestSessionsAndTokens(t *testing.T) {
	w := newWorld(t)
	cookie := map[string]string{"Authorization": "", "Cookie": "oskeld_session=" + w.token}
	post := func(header map[string]string) int {
		r, _ := w.ask("POST", "/api/v1/projects", strings.NewReader(`{"name":"other"}`), header)
		return r.StatusCode
	}
	cookie["Origin"] = "http://evil.example"
	if got := post(cookie); got != 403 {
		t.Errorf("another site acts with the cookie: %d", got)
	}
	delete(cookie, "Origin")
	if got := post(cookie); got != 403 {
		t.Errorf("a call without an origin acts with the cookie: %d", got)
	}
	cookie["Origin"] = w.address
	if got := post(cookie); got != 200 {
		t.Errorf("our own page may not act: %d", got)
	}
	token := strings.TrimSpace(w.ok("token", "add", "ci", "--scope", "read", "--quiet"))
	bearer := map[string]string{"Authorization": "Bearer " + token}
	if r, _ := w.ask("GET", "/api/v1/stores/intake", nil, bearer); r.StatusCode != 200 {
		t.Errorf("a token may not read: %d", r.StatusCode)
	}
	if got := post(bearer); got != 403 {
		t.Errorf("a token of scope read makes a project: %d", got)
	}
	if r, _ := w.ask("POST", "/api/v1/tokens", strings.NewReader(`{"name":"wide","scope":"all","hours":1}`), bearer); r.StatusCode != 403 {
		t.Errorf("a token of scope read makes a wider one: %d", r.StatusCode)
	}
	id := strings.Fields(strings.Split(w.ok("token", "list"), "\n")[1])[0]
	w.ok("token", "remove", id)
	if r, _ := w.ask("GET", "/api/v1/stores/intake", nil, bearer); r.StatusCode != 401 {
		t.Errorf("an ended token gets %d", r.StatusCode)
	}
	other := map[string]string{"Authorization": "Bearer " + w.signInAs("ida")}
	for input, want := range map[string]string{"wrong-password\nbloom-and-heather\n": "the old password is wrong", password + "\nshort\n": "length >= 10", password + "\n": "holds one line"} {
		if out, code := w.run(input, "person", "password"); code == 0 || !strings.Contains(out, want) {
			t.Errorf("%q: exit %d, %s", input, code, out)
		}
	}
	if out, code := w.run(password+"\nbloom-and-heather\n", "person", "password"); code != 0 {
		t.Fatal(out)
	}
	if r, _ := w.ask("GET", "/api/v1/status", nil, other); r.StatusCode != 401 {
		t.Errorf("another session outlives the old password: %d", r.StatusCode)
	}
	if r, _ := w.ask("POST", "/api/v1/session", strings.NewReader(`{"name":"ida","password":"`+password+`"}`), nil); r.StatusCode != 401 {
		t.Errorf("the old password still opens: %d", r.StatusCode)
	}
	w.ok("status")
	w.ok("logout")
	w.refused(4, "you are not signed in", "builds")
}
