package test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"oskeld.dev/oskeld/test/browser"
)

// axe looks for what keeps people out: contrast, names, roles, order.
func axe(t *testing.T, p *browser.Page, where string) {
	t.Helper()
	source, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	const look = `axe.run({resultTypes: ['violations']}).then((r) => JSON.stringify(r.violations.map((v) => [v.id, v.nodes.length, v.nodes[0].html, v.nodes[0].failureSummary])))`
	found, err := chromedp.Run(p.Ctx, chromedp.Evaluate[string](string(source)+";\n"+look, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatalf("%s: %v", where, err)
	}
	var violations [][]any
	if err := json.Unmarshal([]byte(found), &violations); err != nil {
		t.Fatal(err)
	}
	for _, v := range violations {
		t.Errorf("%s: %v in %v places: %v\n%v", where, v[0], v[1], v[2], v[3])
	}
}

// console opens the console and signs in; must ends the test with what the page says.
func (w *world) console(chromium *browser.Browser) (page *browser.Page, must func(error)) {
	w.t.Helper()
	page, err := chromium.Page(browser.View{Address: w.address})
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(page.Close)
	must = func(err error) {
		w.t.Helper()
		if err != nil {
			text, _ := page.Text()
			w.t.Fatalf("%v\nthe page says:\n%s\nand complains: %q", err, text, page.Errors())
		}
	}
	must(page.Go("/"))
	axe(w.t, page, "sign in")
	must(chromedp.Do(page.Ctx, chromedp.SendKeys(chromedp.CSS("#name"), "ida"), chromedp.SendKeys(chromedp.CSS("#password"), password), chromedp.Click(chromedp.CSS("button[type=submit]"))))
	must(page.WaitText("Runs and waits"))
	return page, must
}

// The console as its users meet it: sign in, start a build, watch it, promote what it made.
func TestConsole(t *testing.T) {
	chromium, err := browser.Open()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(chromium.Close)
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	w.run("bees-know-the-way\n", "secret", "set", "SIGNING_KEY", "--project", "heath")
	w.pipeline("hivebook", jobStages+"\n[ask.profile]\nabout = \"How much it checks\"\npick = [\"release\", \"debug\"]\n[ask.deep]\nflag = false\n[ask.jobs]\nnumber = 4\n[[start]]\nclock = \"30 5 * * 1-5\"\nzone = \"Europe/Oslo\"\n")
	bare := w.repo("bare")
	bare.commit("Begin", map[string]string{"Makefile": "all:\n\ttrue\n", "go.mod": "module x\n\ngo 1.22\n"})
	w.ok("source", "add", "bare", bare.dir, "--project", "heath")
	w.ok("start", "hivebook", "--follow")
	w.pipeline("broken", "[stage.test]\nread = { tests = [\"r.xml\"] }\nscript = \"echo '<testsuite><testcase name=\\\"frost\\\"><failure>got 3, want 2</failure></testcase></testsuite>' > r.xml\"\n")
	w.await(w.start("broken", ""))
	if err := os.WriteFile(w.dir+"/proving.toml", []byte("store = \"proving\"\nrank = 1\nfrom = [\"intake\"]\n[[rule]]\nsay = \"Tests ran and none failed\"\nthat = \"tests.total > 0 && tests.failed == 0\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.ok("store", "add", "proving", "--project", "heath", "--file", "proving.toml")
	page, must := w.console(chromium)
	must(page.WaitText("broken / 1"))

	must(page.Go("/pipelines/hivebook"))
	must(page.WaitText("30 5 * * 1-5 in Europe/Oslo")) // the file is read, and its asks are in the form
	must(chromedp.Do(page.Ctx, chromedp.SetValue(chromedp.CSS("#ask-profile"), "debug"), chromedp.Click(chromedp.CSS("#ask-deep"))))
	if _, err := chromedp.Run(page.Ctx, chromedp.Evaluate[bool]("document.querySelector('#ask-profile').dispatchEvent(new Event('change'))")); err != nil {
		t.Fatal(err)
	}
	must(chromedp.Do(page.Ctx, chromedp.Click(chromedp.CSS("form button[type=submit]"))))
	must(page.WaitText("hivebook / 2"))
	must(page.WaitText("profile debug"))
	must(page.WaitText("deep true"))
	must(page.WaitText("passed"))
	must(chromedp.Do(page.Ctx, chromedp.Click(chromedp.CSS("button[aria-pressed]:nth-of-type(4)")))) // the package stage's row
	must(page.WaitText("key is •••"))

	must(page.Go("/new-pipeline?source=bare"))
	must(page.WaitText("this one fits: a Go module (go.mod)"))
	must(page.WaitText("by which is it built?"))
	must(page.Go("/stores/intake/hivebook"))
	must(page.WaitText("Tests ran and none failed"))
	must(page.WaitText("2 ran, 0 failed"))
	must(chromedp.Do(page.Ctx, chromedp.Click("//button[normalize-space()='Promote']")))
	must(page.WaitText("is in proving now"))
	if out := w.ok("list", "proving"); !strings.Contains(out, "proving/hivebook@0.0.1-main.2") {
		t.Errorf("promoted in the console, and the store says\n%s", out)
	}

	// "/" finds a version from the keyboard. (The protocol types the slash too, which a keyboard does not.)
	must(chromedp.Do(page.Ctx, chromedp.KeyEvent("/"), chromedp.KeyEvent("\b"), chromedp.KeyEvent("intake/hivebook@0.0.1-main.1")))
	must(page.WaitText("artifact\nintake/hivebook@0.0.1-main.1"))
	must(chromedp.Do(page.Ctx, chromedp.KeyEvent("\r")))
	must(page.WaitText("One signed statement"))
	if complaints := page.Errors(); len(complaints) > 0 {
		t.Errorf("the page complains: %q", complaints)
	}
	page.Close() // a page behind another gets no frames
	pages(t, w, chromium)
}

// pages looks at each page in light and dark, wide and narrow: no violation, no complaint.
func pages(t *testing.T, w *world, chromium *browser.Browser) {
	t.Helper()
	var digest string
	for line := range strings.Lines(w.ok("show", "intake/hivebook@0.0.1-main.1")) {
		if strings.Contains(line, ".zip") && len(strings.Fields(line)) == 4 {
			digest = strings.Fields(line)[3]
		}
	}
	for _, view := range []browser.View{{}, {Dark: true}, {Width: 360}} {
		view.Address, view.Token = w.address, w.token
		page, err := chromium.Page(view)
		if err != nil {
			t.Fatal(err)
		}
		began := time.Now()
		for path, want := range map[string]string{
			"/": "Lately", "/pipelines": "hivebook", "/new-pipeline?source=bare": "has no oskeld.toml yet", "/pipelines/hivebook": "the highest is", "/pipelines/hivebook/1": "critical path", "/pipelines/broken/1": "got 3, want 2",
			"/stores": "for ever", "/stores/intake": "hivebook", "/stores/intake/hivebook": "Ladder", "/stores/proving/hivebook/0.0.1-main.2": "Admitted", "/agents": "barrow",
			"/records": "build passed", "/trace/" + digest: "Made by", "/nowhere": "Nothing here", "/pipelines/nowhere": "no pipeline",
		} {
			where := fmt.Sprintf("%s dark %v width %d", path, view.Dark, view.Width)
			if err := page.Go(path); err != nil {
				state, _ := chromedp.Run(page.Ctx, chromedp.Evaluate[string](`[document.readyState, document.visibilityState, document.fonts.status, location.href, document.body?.innerText].join(" | ")`))
				t.Fatalf("%s: %v: %s", where, err, state)
			}
			if err := page.WaitText(want); err != nil {
				text, _ := page.Text()
				t.Fatalf("%s does not say %q: %v\n%s", where, want, err, text)
			}
			if view.Width == 0 {
				axe(t, page, where)
			}
			wide, err := chromedp.Run(page.Ctx, chromedp.Evaluate[bool]("document.documentElement.scrollWidth > innerWidth + 1"))
			if err != nil || wide {
				t.Errorf("%s: the page is wider than the window (%v)", where, err)
			}
		}
		for _, complaint := range page.Errors() {
			if !strings.Contains(complaint, "404") { // asked for what is not there
				t.Errorf("width %d dark %v: the page complains: %s", view.Width, view.Dark, complaint)
			}
		}
		page.Close()
		t.Log(view, time.Since(began))
	}
}
