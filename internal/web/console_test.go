package web

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"
)

// The console's page stands at every address that is no API's; what is missing among its files is
// missing, and nothing outside them is served.
func TestConsoleFiles(t *testing.T) {
	files := fstest.MapFS{"index.html": {Data: []byte("<title>Oskeld")}, "favicon.svg": {Data: []byte("<svg/>")}, "assets/a.js": {Data: []byte("1")}, "assets/f.woff2": {Data: []byte("f")}, "secret.txt": {Data: []byte("no")}}
	s := New(nil, Options{Console: files, Log: slog.New(slog.DiscardHandler)})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l) }()
	defer func() { cancel(); <-ended }()
	for path, want := range map[string]struct {
		status     int
		kind, text string
	}{
		"/": {200, "text/html", "Oskeld"}, "/pipelines/hivebook/57": {200, "text/html", "Oskeld"}, "/secret.txt": {200, "text/html", "Oskeld"},
		"/favicon.svg": {200, "image/svg+xml", "<svg"}, "/assets/a.js": {200, "javascript", "1"}, "/assets/f.woff2": {200, "font/woff2", "f"},
		"/assets/none.js": {404, problemType, "missing"}, "/assets/..%2fsecret.txt": {404, problemType, "missing"}, "/api/v1/none": {404, problemType, "missing"}, "/files/": {404, problemType, "missing"},
	} {
		r, err := http.Get("http://" + l.Addr().String() + path)
		if err != nil {
			t.Fatal(err)
		}
		text := make([]byte, 500)
		n, _ := r.Body.Read(text)
		r.Body.Close()
		if r.StatusCode != want.status || !strings.Contains(r.Header.Get("Content-Type"), want.kind) || !strings.Contains(string(text[:n]), want.text) {
			t.Errorf("%s: %d %s %q", path, r.StatusCode, r.Header.Get("Content-Type"), text[:n])
		}
		if policy := r.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "default-src 'none'") || strings.Contains(policy, "script-src 'self' 'unsafe") {
			t.Errorf("%s: policy %q", path, policy)
		}
		if cached := strings.Contains(r.Header.Get("Cache-Control"), "immutable"); cached != (strings.HasPrefix(path, "/assets/") && want.status == 200) {
			t.Errorf("%s: cached %v", path, cached)
		}
	}
}
