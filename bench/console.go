package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/chromedp/chromedp"
	"oskeld.dev/oskeld/test/browser"
)

// opens is how often the page of a long log is opened.
const opens = 7

// longLog measures how long the console takes to show a million-line log, from the address to its first
// lines and their number, and how long a frame is while somebody scrolls through it.
func (b *bench) longLog() ([]result, error) {
	ctx := context.Background()
	if err := b.pipeline(ctx, "counter", "[stage.count]\nscript = \"seq 1 1000000 | sed 's/$/ bees at the entrance/'\"\n"); err != nil {
		return nil, err
	}
	if _, err := b.build(ctx, "counter"); err != nil {
		return nil, err
	}
	chromium, err := browser.Open()
	if err != nil {
		return nil, err
	}
	defer chromium.Close()
	page, err := chromium.Page(browser.View{Address: b.address, Token: b.token})
	if err != nil {
		return nil, err
	}
	defer page.Close()
	var took []time.Duration
	for range opens {
		if err := page.Go("/pipelines"); err != nil { // the console itself is there already
			return nil, err
		}
		began := time.Now()
		if err := chromedp.Do(page.Ctx, chromedp.Navigate(b.address+"/pipelines/counter/1")); err != nil {
			return nil, err
		}
		for _, text := range []string{"30 bees at the entrance", "1,000,000 lines"} {
			if err := page.WaitText(text); err != nil {
				return nil, err
			}
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	opened := took[len(took)/2]
	seen, err := chromedp.Run(page.Ctx, chromedp.Evaluate[[]float64](scrolling, chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, err
	}
	if complaints := page.Errors(); len(complaints) > 0 {
		return nil, fmt.Errorf("the console complains: %q", complaints)
	}
	return []result{
		{"a log of a million lines opened in the console, the middle of " + fmt.Sprint(opens), "", ms(opened), opened.Seconds(), "<= 1 s", opened <= time.Second},
		{"a frame while it is scrolled by 500 lines a second, p95", "", fmt.Sprintf("%.0f ms", seen[0]), seen[0] / 34, "<= 34 ms", seen[0] <= 34},
		{"frames of these that show a gap", "", fmt.Sprintf("%.1f %%", 100*seen[1]), seen[1] / 0.02, "<= 2 %", seen[1] <= 0.02},
	}, nil
}

// scrolling scrolls for eight seconds. It gives the length of the frames in milliseconds, p95, and the share
// of those in which a line in view has no text.
const scrolling = `new Promise((done) => {
	const log = document.querySelector('[role=log]');
	const frames = [];
	let gaps = 0;
	const gap = () => {
		const box = log.getBoundingClientRect();
		return [...log.querySelectorAll('[data-index]')].some((row) => {
			const at = row.getBoundingClientRect();
			return at.bottom > box.top && at.top < box.bottom && !row.querySelector('button, a + span');
		});
	};
	let before = performance.now();
	const begun = before;
	const step = (now) => {
		frames.push(now - before);
		if (gap()) gaps++;
		log.scrollBy(0, (now - before) * 10); // pixels, of which a line has 20
		before = now;
		if (now - begun < 8000) { requestAnimationFrame(step); return; }
		frames.sort((a, b) => a - b);
		done([frames[Math.floor(frames.length * 0.95)], gaps / frames.length]);
	};
	requestAnimationFrame(step);
})`
