package test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// Of each fault so many random moments are tried: 20, or what OSKELD_CHAOS says (make chaos: 1,000).
func moments(t *testing.T) int {
	text := os.Getenv("OSKELD_CHAOS")
	if text == "" {
		return 20
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		t.Fatalf("OSKELD_CHAOS=%q is no number of moments", text)
	}
	return n
}

const shortLease = 300 * time.Millisecond

// chaos is a world in which something goes wrong at random moments.
type chaos struct {
	*world
	rng    *rand.Rand
	agents map[string]*process
	lost   int // builds over which too many agents were lost

	program  string // of the agents, "" for the one under test
	wire     *wire
	repeater *repeater
}

// Whatever fails, and whenever: a build ends as it would have, no line is lost or doubled, its artifact is
// sealed once, and nothing is left over.
func TestChaos(t *testing.T) {
	type fault struct {
		name   string
		world  func(c *chaos) // instead of a service and two agents that call it
		strike func(c *chaos) // at the moment
		after  func(c *chaos) // once the build has ended
	}
	faults := []fault{
		{"a service is killed", nil, func(c *chaos) { c.service.kill(); c.serve() }, nil},
		{"an agent is killed", nil, func(c *chaos) { c.killAgent() }, nil},
		{"PostgreSQL is killed", (*chaos).ownDatabase, (*chaos).killDatabase, nil},
	}
	cut := func(least, most time.Duration) func(*chaos) {
		return func(c *chaos) {
			c.wire.set(true)
			<-time.After(least + time.Duration(c.rng.Int64N(int64(most-least))))
			c.wire.set(false)
		}
	}
	wired := func(c *chaos) {
		c.wire = newWire(c.t, strings.TrimPrefix(c.address, "http://"))
		c.join(c.wire.address)
	}
	faults = append(faults,
		fault{"the connection is cut for less than the lease", wired, cut(10*time.Millisecond, shortLease/2), nil},
		fault{"the connection is cut for more than the lease", wired, cut(shortLease, 3*shortLease), nil},
		fault{"an agent holds what another was given", nil, (*chaos).pause, nil},
		fault{"reports come twice, out of order and after the end", func(c *chaos) {
			c.repeater = newRepeater(c.t, c.address, c.rng.Uint64())
			c.join(c.repeater.address)
		}, func(*chaos) {}, func(c *chaos) { c.repeater.sendAll() }},
		fault{"one of two services dies", func(c *chaos) {
			second, address := c.second()
			c.join("http://" + address)
			c.t.Cleanup(second.stop)
		}, func(c *chaos) { c.service.kill(); c.serve() }, nil},
	)
	if os.Getenv("OSKELD_CHAOS") != "" { // TestAgentsTellNoClock says why it can do no harm; this shows it
		faults = append(faults, fault{"the clock of an agent is an hour ahead", func(c *chaos) {
			c.program = anHourAhead(c.t)
			c.join(c.address)
		}, (*chaos).killAgent, nil})
	}
	places := make(chan struct{}, 2) // more at a time, and the machine itself is too slow for such leases
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			t.Parallel()
			places <- struct{}{}
			defer func() { <-places }()
			seed := uint64(time.Now().UnixNano())
			c := &chaos{world: newWorldWith(t, shortLease), rng: rand.New(rand.NewPCG(seed, 0)), agents: map[string]*process{}}
			if f.world != nil {
				f.world(c)
			}
			if len(c.agents) == 0 {
				c.join(c.address)
			}
			c.pipeline("hivebook", chaosPipeline)
			n := moments(t)
			for i := range n {
				c.moment(fmt.Sprintf("seed %d, moment %d", seed, i), f.strike, f.after)
			}
			if c.lost > n/4 {
				t.Errorf("%d of %d builds were lost, for a machine that is only slow", c.lost, n)
			}
			if r := c.repeater; r != nil && r.again < n {
				t.Errorf("%d calls were sent again", r.again)
			}
		})
	}
}

const chaosPipeline = `
[version]
untagged = "1.0.{number}"
[stage.restore]
carry = ["made/**"]
script = "mkdir made; i=0; while [ $i -lt 15 ]; do echo restore $i; i=$((i+1)); sleep 0.01; done; echo sweet > made/honey"
[stage.compile]
after = ["restore"]
script = "(sleep 60 &) ; i=0; while [ $i -lt 25 ]; do echo compile $i; i=$((i+1)); sleep 0.01; done; cp made/honey out.txt"
[[stage.compile.artifact]]
name = "honey"
files = ["out.txt"]
store = "intake"
`

// moment lets a build run, does the fault at a random moment of it, and looks what came of it.
func (c *chaos) moment(told string, strike, after func(*chaos)) {
	c.t.Helper()
	b := c.start("hivebook", "")
	moment := time.Duration(c.rng.IntN(700)) * time.Millisecond
	<-time.After(moment) // the moment is what this test is about
	strike(c)
	d := c.await(b)
	if after != nil {
		before := c.build(b)
		after(c)
		again := c.build(b)
		if a, b := asText(before.Runs), asText(again.Runs); a != b || again.State != before.State {
			c.t.Fatalf("%s: what came after the end changed it from\n%s to\n%s", told, a, b)
		}
	}
	told += fmt.Sprintf(", after %s", moment)
	passed := strings.Count(c.ok("records", fmt.Sprintf("hivebook/%d", b.Number)), "build passed")
	if d.State == progress.Lost && strings.Contains(d.Cause, "agents were lost over it") && passed == 0 {
		c.lost++
	} else {
		if d.State != progress.Passed || passed != 1 || len(d.Artifacts) != 1 || d.Artifacts[0].State != "sealed" {
			c.t.Fatalf("%s: %s %q, passed %d times, %+v", told, d.State, d.Cause, passed, d.Artifacts)
		}
		for run, want := range []int{15, 25} {
			lines := c.lines(b, run)
			for i, l := range lines {
				if l != fmt.Sprintf("%s %d", d.Runs[run].Name, i) {
					c.t.Fatalf("%s: line %d of %s says %q", told, i+1, d.Runs[run].Name, l)
				}
			}
			if len(lines) != want {
				c.t.Fatalf("%s: %s has %d lines, want %d", told, d.Runs[run].Name, len(lines), want)
			}
		}
	}
	c.until("nothing is left over, "+told, func() bool {
		if exec.Command("pgrep", "-f", c.dir+"/[a-z]*/work").Run() == nil {
			return false
		}
		left, _ := filepath.Glob(filepath.Join(c.dir, "*", "work", "*"))
		return len(left) == 0
	})
}

func asText(runs []view.StageRun) string {
	text, err := json.Marshal(runs)
	if err != nil {
		panic(err)
	}
	return string(text)
}

// join starts two agents that call an address.
func (c *chaos) join(address string) {
	for _, name := range []string{"barrow", "heron"} {
		token := strings.TrimSpace(c.ok("agent", "add", "--quiet"))
		c.startAgent(name, address, "OSKELD_JOIN_TOKEN="+token)
	}
}

func (c *chaos) startAgent(name, address string, env ...string) {
	p := beginProgram(c.t, cmp.Or(c.program, program), env, "agent", "run", "--sandbox", "off", "--service", address, "--dir", filepath.Join(c.dir, name), "--name", name, "--beat", (c.lease / 6).String())
	c.until("agent "+name+" is ready", func() bool { return strings.Contains(p.log.String(), "agent ready") })
	c.agents[name] = p
}

func (c *chaos) oneOf() string { return []string{"barrow", "heron"}[c.rng.IntN(2)] }

func (c *chaos) killAgent() {
	name := c.oneOf()
	c.agents[name].kill()
	c.startAgent(name, c.address)
}

// pause stops an agent, and not what it started, for longer than its lease: then it goes on as if nothing
// had happened, while another was given what it holds.
func (c *chaos) pause() {
	p := c.agents[c.oneOf()]
	if err := p.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		c.t.Fatal(err)
	}
	<-time.After(c.lease + time.Duration(c.rng.Int64N(int64(2*c.lease))))
	if err := p.cmd.Process.Signal(syscall.SIGCONT); err != nil {
		c.t.Fatal(err)
	}
}

// ownDatabase gives the service a PostgreSQL of its own, which it starts itself.
func (c *chaos) ownDatabase() {
	c.service.stop()
	for _, dir := range []string{filepath.Dir(c.dir), c.dir} { // the user "postgres" must reach it
		if err := os.Chmod(dir, 0o755); err != nil {
			c.t.Fatal(err)
		}
	}
	address := strings.TrimPrefix(c.address, "http://")
	c.service = begin(c.t, []string{"OSKELD_DATABASE=", "OSKELD_OWNER_PASSWORD=" + password}, "serve", "--dir", filepath.Join(c.dir, "own"),
		"--listen", address, "--owner", "ida", "--lease", c.lease.String())
	c.ready(c.service, address)
	c.signIn()
	c.ok("project", "add", "heath")
	c.ok("store", "add", "intake", "--project", "heath", "--rewrite", "never")
}

func (c *chaos) killDatabase() {
	text, err := os.ReadFile(filepath.Join(c.dir, "own", "postgres", "postmaster.pid"))
	if err != nil {
		c.t.Fatal(err)
	}
	pid, _ := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	was := strings.Count(c.service.log.String(), "started again")
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		c.t.Fatal(err)
	}
	c.until("the database is back", func() bool { return strings.Count(c.service.log.String(), "started again") > was })
	c.ready(c.service, strings.TrimPrefix(c.address, "http://"))
}
