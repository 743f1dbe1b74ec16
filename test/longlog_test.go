package test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/test/browser"
)

// The older text of a log that grows long leaves the database while its step still prints, and reads,
// follows and is searched as before; afterwards it is one blob.
func TestLongLogLeavesTheDatabase(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	wait, open := w.gate("open")
	w.pipeline("hivebook", "[stage.noise]\nscript = \"\"\"\nhead -c 14000000 /dev/urandom | base64 -w 99; echo heather honey\n"+wait+"\necho the end\n\"\"\"\n")
	b := w.start("hivebook", "")
	w.printed(b, 0, "heather honey")
	c, err := pgx.Connect(t.Context(), w.database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	one := func(sql string) (n int) {
		t.Helper()
		if err := c.QueryRow(t.Context(), sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	w.until("a part is made", func() bool { return one("select count(*) from log_part") > 0 })
	if n := one("select coalesce(sum(length(body)), 0) from log_segment"); n > 9<<20 {
		t.Errorf("%d bytes of the log are in the database", n)
	}
	if out := w.ok("log", "hivebook/1", "noise", "--find", "HEATHER Honey"); !strings.HasSuffix(out, " heather honey\n") || strings.Count(out, "\n") != 1 {
		t.Errorf("%q", out)
	}
	running := w.lines(b, 0)
	open()
	if d := w.await(b); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	w.until("the log is one blob", func() bool {
		return one("select count(*) from log_segment")+one("select count(*) from log_part") == 0 && one("select count(*) from log_blob") == 1
	})
	after := w.lines(b, 0)
	if len(after) != len(running)+1 || strings.Join(after[:len(running)], "\n") != strings.Join(running, "\n") {
		t.Errorf("%d lines while it ran, %d after", len(running), len(after))
	}
	if n := one("select count(*) from gone_blob"); n == 0 {
		t.Error("the parts' bytes are kept for nobody")
	}
}

// Two million lines, more than a browser is high, open in the console, jump to an address, fold, and are
// searched on the service.
func TestConsoleMillionLines(t *testing.T) {
	chromium, err := browser.Open()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(chromium.Close)
	w := newWorld(t)
	w.agent("barrow")
	w.pipeline("hivebook", "[stage.count]\n[[stage.count.step]]\nname = \"look\"\nscript = \"echo first look\"\n[[stage.count.step]]\nname = \"bees\"\nscript = \"seq 1 2000000 | sed 's/$/ bees at the entrance/'\"\n[[stage.count.step]]\nname = \"dusk\"\nscript = \"echo all are home\"\n")
	if d := w.await(w.start("hivebook", "")); d.State != progress.Passed || d.Runs[0].Lines != 2_000_002 || d.Runs[0].Steps[1].Line != 2 || d.Runs[0].Steps[2].Line != 2_000_002 {
		t.Fatalf("%s %+v", d.Cause, d.Runs[0].Steps)
	}
	page, must := w.console(chromium)
	must(page.Go("/pipelines/hivebook/1"))
	must(page.WaitText("30 bees at the entrance"))
	must(page.WaitText("2,000,002 lines"))
	must(page.Go("/pipelines/hivebook/1?run=0#L1777777"))
	must(page.WaitText("1777776 bees at the entrance"))
	act := func(script string) {
		t.Helper()
		_, err := chromedp.Run(page.Ctx, chromedp.Evaluate[bool](script+", true"))
		must(err)
	}
	act(`document.querySelector('[role=log]').scrollTo(0, 1e9)`)
	must(page.WaitText("all are home"))
	must(chromedp.Do(page.Ctx, chromedp.SendKeys(chromedp.CSS("input[aria-label='find in the log']"), "1654321 BEES")))
	must(page.WaitText("1 of 2,000,002 lines"))
	must(page.WaitText("1654321 bees at the entrance"))
	must(page.Go("/pipelines/hivebook/1"))
	must(page.WaitText("3 bees at the entrance"))
	act(`[...document.querySelectorAll('[role=log] button')].find((b) => b.textContent.includes('bees')).click()`)
	must(page.WaitText("all are home"))
	rows, err := chromedp.Run(page.Ctx, chromedp.Evaluate[int](`document.querySelectorAll('[role=log] [data-index]').length`))
	if must(err); rows != 5 { // three heads, and the lines of the two other steps
		t.Errorf("%d rows when the bees are folded", rows)
	}
	if complaints := page.Errors(); len(complaints) > 0 {
		t.Error(complaints)
	}
	if out := w.ok("log", "hivebook/1", "count", "--from", "1999999", "--most", "2"); out != fmt.Sprintf("%6d 1999998 bees at the entrance\n2000000 1999999 bees at the entrance\n", 1999999) {
		t.Errorf("%q", out)
	}
	w.refused(3, `no stage "comb"`, "log", "hivebook/1", "comb")
}
