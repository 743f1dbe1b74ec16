package client

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

func answer(t *testing.T, h http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return New(s.URL+"/", "okp_token")
}

func TestCallTurnsProblemsIntoFaults(t *testing.T) {
	c := answer(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer okp_token" {
			t.Errorf("sent %q", r.Header)
		}
		switch r.URL.Path {
		case "/good":
			fmt.Fprint(w, `{"n":3}`)
		case "/cut":
			fmt.Fprint(w, `{"n":`)
		case "/problem":
			w.WriteHeader(http.StatusConflict)
			fmt.Fprint(w, `{"type":"urn:oskeld:problem:conflict","detail":"taken","field":"name","hint":"another"}`)
		case "/other":
			w.WriteHeader(http.StatusNotFound)
			fmt.Fprint(w, "<html>")
		case "/broken":
			w.WriteHeader(http.StatusBadGateway)
		}
	})
	var out struct{ N int }
	if err := c.Call(t.Context(), "GET", "/good", nil, &out); err != nil || out.N != 3 {
		t.Error(out, err)
	}
	err := c.Call(t.Context(), "POST", "/problem", map[string]int{"a": 1}, nil)
	if e, ok := errors.AsType[*fault.Error](err); !ok || e.Kind != fault.KindConflict || e.Message != "taken" || e.Field != "name" || e.Advice != "another" {
		t.Errorf("%+v", err)
	}
	for path, kind := range map[string]fault.Kind{"/cut": fault.KindUnavailable, "/other": fault.KindInvalid, "/broken": fault.KindUnavailable} {
		if err := c.Call(t.Context(), "GET", path, nil, &out); !fault.Is(err, kind) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if err := New("http://127.0.0.1:1", "").Call(t.Context(), "GET", "/", nil, nil); !fault.Is(err, fault.KindUnavailable) || !strings.Contains(err.Error(), "OSKELD_SERVICE") {
		t.Errorf("nobody there: %v", err)
	}
	if err := New("not an address", "").Call(t.Context(), "GET", "/", nil, nil); err == nil {
		t.Error("no address, and no error")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := c.Call(ctx, "GET", "/good", nil, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

func TestEvents(t *testing.T) {
	c := answer(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Last-Event-ID") == "2" {
			fmt.Fprint(w, "event: end\nid: 3\ndata: {}\n\n")
			return
		}
		fmt.Fprint(w, "event: lines\nid: 1\ndata: {\"a\":1}\n\nevent: lines\nid: 2\ndata: {\"a\":2}\n\nevent: li") // and breaks off
	})
	var got []string
	err := c.Events(t.Context(), "/", "", func(e Event) (bool, error) { got = append(got, e.Name+e.ID+string(e.Data)); return true, nil })
	if !fault.Is(err, fault.KindUnavailable) || len(got) != 2 || got[1] != `lines2{"a":2}` {
		t.Errorf("%v %v", got, err)
	}
	err = c.Events(t.Context(), "/", "2", func(e Event) (bool, error) { got = append(got, e.Name); return e.Name != "end", nil })
	if err != nil || got[2] != "end" {
		t.Errorf("%v %v", got, err)
	}
}

// flaky takes uploads, and cuts every other part half-way.
type flaky struct {
	mu    sync.Mutex
	kept  map[string][]byte
	calls int
	done  map[string]string
}

func (f *flaky) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	name := strings.TrimPrefix(r.URL.Path, "/blobs/")
	switch {
	case r.URL.Path == "/blobs/lacking":
		text, _ := io.ReadAll(r.Body)
		if strings.Contains(string(text), "sizes") {
			fmt.Fprintf(w, `{"lacking":[],"new_sizes":[%d]}`, oncePass+1)
			return
		}
		fmt.Fprintf(w, `{"lacking":[%q]}`, strings.Split(string(text), `"`)[3])
	case r.Method == http.MethodHead:
		w.Header().Set("Upload-Offset", strconv.Itoa(len(f.kept[name])))
	case r.Method == http.MethodPatch:
		f.calls++
		if at, _ := strconv.Atoi(r.Header.Get("Upload-Offset")); at != len(f.kept[name]) {
			w.WriteHeader(http.StatusConflict)
			fmt.Fprint(w, `{"type":"urn:oskeld:problem:conflict","detail":"wrong offset"}`)
			return
		}
		if f.calls%2 == 1 {
			part, _ := io.ReadAll(io.LimitReader(r.Body, 1000))
			f.kept[name] = append(f.kept[name], part...)
			panic(http.ErrAbortHandler)
		}
		part, _ := io.ReadAll(r.Body)
		f.kept[name] = append(f.kept[name], part...)
		if r.Header.Get("Upload-Complete") == "?1" {
			f.done[name] = r.Header.Get("Upload-Digest")
		}
		fmt.Fprint(w, "{}")
	}
}

// An upload goes on where it broke off, whether its digest is known beforehand or not.
func TestUploadGoesOn(t *testing.T) {
	for _, size := range []int{0, 100_000, oncePass + 1} {
		f := &flaky{kept: map[string][]byte{}, done: map[string]string{}}
		c := answer(t, f.ServeHTTP)
		data := bytes.Repeat([]byte("heath "), size/6+1)[:size]
		path := filepath.Join(t.TempDir(), "file.bin")
		if err := os.WriteFile(path, data, 0o755); err != nil {
			t.Fatal(err)
		}
		acknowledged := int64(0)
		got, err := c.Send(t.Context(), path, func(n int64) { acknowledged = n })
		if err != nil {
			t.Fatal(err)
		}
		want := artifact.File{Path: "file.bin", Size: int64(size), Digest: artifact.DigestOf(data), Executable: true}
		if got != want || acknowledged != int64(size) || len(f.done) != 1 {
			t.Errorf("%d bytes: %+v, acknowledged %d", size, got, acknowledged)
		}
		for name, digest := range f.done {
			if digest != string(want.Digest) || !bytes.Equal(f.kept[name], data) {
				t.Errorf("%d bytes: %s came as %d bytes with digest %s", size, name, len(f.kept[name]), digest)
			}
			if isNew := strings.HasPrefix(name, "new-"); isNew != (size > oncePass) {
				t.Errorf("%d bytes were sent as %s", size, name)
			}
		}
	}
	if _, err := New("http://127.0.0.1:1", "").Send(t.Context(), "/nonexistent", nil); !fault.Is(err, fault.KindMissing) {
		t.Error(err)
	}
	if _, err := New("http://127.0.0.1:1", "").Send(t.Context(), t.TempDir(), nil); !fault.Is(err, fault.KindInvalid) {
		t.Error(err)
	}
}
