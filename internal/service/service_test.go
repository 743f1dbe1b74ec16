package service

import (
	"log/slog"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

func TestSealer(t *testing.T) {
	one, err := newSealer([32]byte{1})
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := one.seal([]byte("bees know"))
	if err != nil || strings.Contains(string(sealed), "bees") {
		t.Fatal(err)
	}
	if plain, err := one.open(sealed); err != nil || string(plain) != "bees know" {
		t.Error(plain, err)
	}
	if again, _ := one.seal([]byte("bees know")); string(again) == string(sealed) {
		t.Error("the same secret is sealed to the same bytes")
	}
	other, _ := newSealer([32]byte{2})
	if _, err := other.open(sealed); err == nil {
		t.Error("another key opens it")
	}
	sealed[len(sealed)-1] ^= 1
	if _, err := one.open(sealed); err == nil {
		t.Error("a harmed value opens")
	}
	if _, err := one.open([]byte("x")); err == nil {
		t.Error("a short value opens")
	}
	s := &Service{seal: one}
	for _, c := range []git.Credential{{}, {User: "ida", Password: "p"}, {Key: "-----BEGIN"}} {
		sealed, err := s.sealCredential(c)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := s.openCredential(sealed); err != nil || back != c {
			t.Errorf("%+v came back as %+v (%v)", c, back, err)
		}
	}
}

func TestPasswords(t *testing.T) {
	hash, err := hashPassword("heather-and-honey")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=65536,t=3,p=4$") {
		t.Fatal(hash, err)
	}
	if !fits(hash, "heather-and-honey") || fits(hash, "heather-and-hone") || fits("", "") || fits("nonsense", "x") {
		t.Error("fits")
	}
	if again, _ := hashPassword("heather-and-honey"); again == hash {
		t.Error("no salt")
	}
	for _, bad := range []string{"", "short", strings.Repeat("x", 201)} {
		if _, err := hashPassword(bad); !fault.Is(err, fault.KindInvalid) {
			t.Errorf("%d characters: %v", len(bad), err)
		}
	}
}

// Five wrong tries are free, then each waits longer, up to a minute; a right one forgets them.
func TestAttempts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tries := attempts{last: map[string]attempt{}}
		var waits []time.Duration
		for range 14 {
			wait := tries.wait("ida", "127.0.0.1")
			waits = append(waits, wait)
			time.Sleep(wait)
			tries.note(true, "ida", "127.0.0.1")
		}
		want := []time.Duration{0, 0, 0, 0, 0, 1, 2, 4, 8, 16, 32, 60, 60, 60}
		for i := range want {
			if waits[i] != want[i]*time.Second {
				t.Errorf("try %d waits %s, want %d s", i+1, waits[i], want[i])
			}
		}
		if tries.wait("per", "127.0.0.1") == 0 || tries.wait("per", "127.0.0.2") != 0 {
			t.Error("it is by name and by address")
		}
		tries.note(false, "ida")
		if tries.wait("ida") != 0 {
			t.Error("a right password does not forget the wrong ones")
		}
		time.Sleep(16 * time.Minute)
		tries.note(true, "nell")
		if len(tries.last) != 1 {
			t.Errorf("%d are remembered for ever", len(tries.last))
		}
	})
}

func TestHubWakesWhoListens(t *testing.T) {
	h := newHub(nil, slog.New(slog.DiscardHandler))
	work, cancelWork := h.Subscribe(TopicWork)
	both, cancelBoth := h.Subscribe(TopicWork, TopicErrands)
	defer cancelBoth()
	woken := func(c <-chan struct{}) bool {
		select {
		case <-c:
			return true
		default:
			return false
		}
	}
	h.Tell(TopicWork)
	h.Tell(TopicWork) // twice before anybody looks is once
	if !woken(work) || woken(work) || !woken(both) {
		t.Error("work")
	}
	h.Tell(TopicErrands)
	if woken(work) || !woken(both) {
		t.Error("errands")
	}
	h.hear("") // after a gap everybody looks
	if !woken(work) || !woken(both) {
		t.Error("a gap")
	}
	cancelWork()
	h.hear(TopicWork)
	if woken(work) || len(h.waiting[TopicWork]) != 1 {
		t.Error("who left is still woken")
	}
}

func TestWantsAgent(t *testing.T) {
	agents := []database.Agent{{Name: "barrow", Facts: facts.Facts{"java": "17.0.1"}, Here: true}, {Name: "heron", Facts: facts.Facts{"java": "21.0.1"}}}
	for demand, want := range map[string]string{
		">=17": "waits for a place on barrow", ">=21": "waits for heron, away or draining now", ">=22": "waits for an agent with java >=22; the nearest, barrow, lacks java >=22 (has 17.0.1)",
	} {
		if got := wantsAgent(database.Build{}, facts.Need{Demand: facts.Demand{"java": demand}}, agents, 0); got != want {
			t.Errorf("%s: %q", demand, got)
		}
	}
}

func TestInLine(t *testing.T) {
	agents := []database.Agent{{Name: "barrow", Here: true}, {Name: "heron", Here: true}, {Name: "moor", Here: true, Draining: true}}
	for before, want := range map[int]string{0: "waits for a place on barrow or heron", 2: "third in line for a place on barrow or heron", 10: "11th in line for a place on barrow or heron",
		20: "21st in line for a place on barrow or heron", 111: "112th in line for a place on barrow or heron", 1000: "far back in line for a place on barrow or heron"} {
		if got := wantsAgent(database.Build{}, facts.Need{}, agents, before); got != want {
			t.Errorf("%d: %q", before, got)
		}
	}
}

func TestFew(t *testing.T) {
	names := []string{"barrow", "heron", "moor", "plover", "lapwing"}
	for n, want := range []string{"", "barrow", "barrow or heron", "barrow or heron or moor", "barrow or heron or moor or plover", "barrow or heron or moor or 2 more"} {
		if got := few(names[:n], "or"); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

func TestCriticalPath(t *testing.T) {
	at := func(s int) *time.Time { x := time.Unix(int64(s), 0); return &x }
	runs := []view.StageRun{
		{Name: "restore", StartedAt: at(0), EndedAt: at(5)},
		{Name: "test", Needs: []int{0}, StartedAt: at(5), EndedAt: at(50)},
		{Name: "compile", Needs: []int{0}, StartedAt: at(6), EndedAt: at(20)},
		{Name: "package", Needs: []int{2, 1}, StartedAt: at(50), EndedAt: at(55)},
		{Name: "skipped", Needs: []int{3, 2}},
		{Name: "skipped as well", Needs: []int{4, 3}},
		{Name: "note", Needs: []int{5, 4}, StartedAt: at(56), EndedAt: at(57)},
	}
	markCritical(runs)
	var path []string
	for _, r := range runs {
		if r.Critical {
			path = append(path, r.Name)
		}
	}
	if !slices.Equal(path, []string{"restore", "test", "package", "note"}) {
		t.Errorf("path %v", path)
	}
	markCritical(nil)
}

func TestStoreFile(t *testing.T) {
	name, o, err := ReadStoreFile([]byte("store = \"shelf\"\nrewrite = \"never\"\nfrom = [\"proving\"]\nrank = 3\n[[rule]]\nsay = \"Tests ran\"\nthat = \"tests.total > 0\"\n"))
	if err != nil || name != "shelf" || len(o.Rules) != 1 || o.Rank != 3 || checkStore(&o) != nil || o.Format != "files" {
		t.Errorf("%s %+v %v", name, o, err)
	}
	for text, want := range map[string]string{"store = ": "cannot be read", "stor = \"x\"": "cannot be read", "rewrite = \"sometimes\"": "no rewrite rule", "format = \"boxes\"": "no format",
		"from = [\"..\"]": "not a name", "[[rule]]\nthat = \"true\"": "has no `say`", "[[rule]]\nsay = \"x\"\nthat = \"tests\"": "true or false"} {
		_, o, err := ReadStoreFile([]byte(text))
		if err == nil {
			err = checkStore(&o)
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

func TestPathsOfFiles(t *testing.T) {
	if name, ver, file, err := splitPath("hivebook/1.4.0/bin/hive x.zip"); name != "hivebook" || ver != "1.4.0" || file != "bin/hive x.zip" || err != nil {
		t.Error(name, ver, file, err)
	}
	for _, bad := range []string{"", "a", "a/1", "a/1/", "../1/x", "a/../x", "a/1/../x", "a/1//x", "a/1/x\x00"} {
		if _, _, _, err := splitPath(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestTakenBy(t *testing.T) {
	holder := database.Admission{Name: "hivebook", StoreName: "intake", Version: "1.4.0", State: "sealed", BuildRef: "hivebook/44", Commit: "9ab3310f"}
	if got := takenBy(holder).Error(); !strings.Contains(got, "build hivebook/44 made it from commit 9ab3310") {
		t.Error(got)
	}
	holder.State = "filling"
	if got := takenBy(holder).Error(); !strings.Contains(got, "is filling it now") {
		t.Error(got)
	}
	store := database.Store{Rewrite: "same"}
	holder.State = "sealed"
	same := database.Build{PipelineName: "hivebook", Commit: holder.Commit}
	if !again(store, holder, same) || again(store, holder, database.Build{PipelineName: "hive", Commit: holder.Commit}) || again(database.Store{Rewrite: "never"}, holder, same) {
		t.Error("again")
	}
}

func TestSecretNames(t *testing.T) {
	for name, ok := range map[string]bool{"SIGNING_KEY": true, "a1": true, "": false, "1a": false, "OSKELD_X": false, "a-b": false, "a b": false, strings.Repeat("x", 101): false} {
		if secretName(name) != ok {
			t.Errorf("%q", name)
		}
	}
	if text, digest := newToken(stageToken); !strings.HasPrefix(text, "oks_") || len(text) < 24 || string(digest) != string(digestOf(text)) {
		t.Error(text)
	}
}
