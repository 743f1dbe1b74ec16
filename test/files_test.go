package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

// ask sends a request as a plain client does.
func (w *world) ask(method, path string, body io.Reader, header map[string]string) (*http.Response, string) {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), method, w.address+path, body)
	if err != nil {
		w.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+w.token)
	for k, v := range header {
		r.Header.Set(k, v)
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		w.t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return response, string(text)
}

func contentDigest(b []byte) string {
	sum := sha256.Sum256(b)
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// A plain client puts a file and gets it, whole and in ranges.
func TestPlainClient(t *testing.T) {
	w := newWorld(t)
	data := []byte("honey, wax and propolis")
	path := "/files/intake/shop/1.0.0/list%20of%20goods.txt"
	digest := map[string]string{"Content-Digest": contentDigest(data)}
	if r, text := w.ask("PUT", path, bytes.NewReader(data), nil); r.StatusCode != 422 || !strings.Contains(text, "Content-Digest") {
		t.Errorf("without a digest: %d %s", r.StatusCode, text)
	}
	if r, text := w.ask("PUT", path, bytes.NewReader(data), map[string]string{"Content-Digest": contentDigest([]byte("other"))}); r.StatusCode != 422 || !strings.Contains(text, "the bytes sent have the digest") {
		t.Errorf("with a wrong digest: %d %s", r.StatusCode, text)
	}
	if r, text := w.ask("PUT", path, bytes.NewReader(data), digest); r.StatusCode != 201 {
		t.Fatalf("%d %s", r.StatusCode, text)
	}
	if r, text := w.ask("PUT", path, strings.NewReader("different"), map[string]string{"Content-Digest": contentDigest([]byte("different"))}); r.StatusCode != 409 || !strings.Contains(text, "is taken") {
		t.Errorf("another under the version: %d %s", r.StatusCode, text)
	}
	r, text := w.ask("GET", path, nil, nil)
	if text != string(data) || r.Header.Get("Accept-Ranges") != "bytes" || r.Header.Get("X-Content-Type-Options") != "nosniff" ||
		!strings.Contains(r.Header.Get("Content-Security-Policy"), "sandbox") || !strings.HasPrefix(r.Header.Get("Content-Disposition"), "attachment; filename*=UTF-8''list%20of%20goods.txt") {
		t.Errorf("got %q with %v", text, r.Header)
	}
	etag := r.Header.Get("ETag")
	if r, text := w.ask("HEAD", path, nil, nil); text != "" || r.ContentLength != int64(len(data)) || r.Header.Get("ETag") != etag {
		t.Errorf("HEAD: %q %d %v", text, r.ContentLength, r.Header)
	}
	if r, _ := w.ask("GET", path, nil, map[string]string{"If-None-Match": etag}); r.StatusCode != 304 {
		t.Errorf("If-None-Match: %d", r.StatusCode)
	}
	for spec, want := range map[string]string{"bytes=0-4": "honey", "bytes=7-": string(data[7:]), "bytes=-8": "propolis", "bytes=7-9": "wax", "bytes=0-9999": string(data)} {
		r, text := w.ask("GET", path, nil, map[string]string{"Range": spec})
		if text != want || r.StatusCode != 206 || !strings.HasSuffix(r.Header.Get("Content-Range"), fmt.Sprintf("/%d", len(data))) {
			t.Errorf("%s: %d %q %s", spec, r.StatusCode, text, r.Header.Get("Content-Range"))
		}
	}
	if r, _ := w.ask("GET", path, nil, map[string]string{"Range": "bytes=99-"}); r.StatusCode != 416 {
		t.Errorf("a range beyond the end: %d", r.StatusCode)
	}
	if _, text := w.ask("GET", path, nil, map[string]string{"Range": "bytes=0-4", "If-Range": `"old"`}); text != string(data) {
		t.Errorf("If-Range that does not fit: %q", text)
	}
	for _, bad := range []string{"/files/intake/shop/1.0.0/../../../etc/passwd", "/files/intake/shop/1.0.0/%2e%2e%2fx", "/files/intake/..%2f..%2fx/1/y", "/files/intake/shop/1%2f0/x",
		"/files/intake/shop/1.0.0", "/files/intake/shop/1.0.0/", "/files/nowhere/a/1/x", "/files/intake/shop/1.0.0/%ff", "/files/intake/shop/1.0.0/a%00b"} {
		if r, text := w.ask("GET", bad, nil, nil); r.StatusCode != 404 && r.StatusCode != 422 || !strings.Contains(text, "urn:oskeld:problem:") {
			t.Errorf("%s: %d %s", bad, r.StatusCode, text)
		}
		if r, _ := w.ask("PUT", bad, bytes.NewReader(data), digest); r.StatusCode < 400 {
			t.Errorf("PUT %s: %d", bad, r.StatusCode)
		}
	}
}

func random(t *testing.T, n int) ([]byte, artifact.File) {
	t.Helper()
	data := make([]byte, n)
	_, _ = rand.Read(data)
	return data, artifact.File{Path: "f", Size: int64(n), Digest: artifact.DigestOf(data)}
}

// An upload that is cut half-way keeps what arrived, and goes on from there.
func TestUploadCutAndResumed(t *testing.T) {
	w := newWorld(t)
	data, f := random(t, 3<<20)
	path := "/blobs/" + string(f.Digest)
	half := len(data) / 2
	conn, err := net.Dial("tcp", strings.TrimPrefix(w.address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "PATCH %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nUpload-Offset: 0\r\nUpload-Complete: ?1\r\nContent-Length: %d\r\n\r\n", path, w.token, len(data))
	if _, err := conn.Write(data[:half]); err != nil {
		t.Fatal(err)
	}
	conn.Close()
	offset := func() string { r, _ := w.ask("HEAD", path, nil, nil); return r.Header.Get("Upload-Offset") }
	w.until("half has arrived", func() bool { return offset() == fmt.Sprint(half) })
	lacking, err := w.owner.Lacking(t.Context(), []artifact.Digest{f.Digest})
	if err != nil || !lacking[f.Digest] {
		t.Fatalf("a cut upload counts as present: %v %v", lacking, err)
	}
	if r, _ := w.ask("PATCH", path, bytes.NewReader(data), map[string]string{"Upload-Offset": "7"}); r.StatusCode != 409 {
		t.Errorf("a part at a wrong offset: %d", r.StatusCode)
	}
	w.service.kill() // what was acknowledged is on the disk
	w.serve()
	file := filepath.Join(w.dir, "f")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	first := int64(0)
	if err := w.owner.Upload(t.Context(), file, f, func(n int64) { first = n }); err != nil {
		t.Fatal(err)
	}
	if first != f.Size {
		t.Errorf("acknowledged %d", first)
	}
	lacking, _ = w.owner.Lacking(t.Context(), []artifact.Digest{f.Digest})
	if lacking[f.Digest] {
		t.Error("it is lacking after the upload")
	}
	if out := w.ok("deliver", "intake/random@1", file); !strings.Contains(out, "is sealed") {
		t.Error(out)
	}
	w.ok("fetch", "intake/random@1", "--into", "got")
	if got, _ := os.ReadFile(filepath.Join(w.dir, "got", "f")); !bytes.Equal(got, data) {
		t.Error("other bytes came back")
	}
}

// A chunked body that breaks off is no whole file either.
func TestChunkedUploadCut(t *testing.T) {
	w := newWorld(t)
	data := []byte("half of it")
	conn, err := net.Dial("tcp", strings.TrimPrefix(w.address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "PUT /files/intake/cut/1/x HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Digest: %s\r\nTransfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n", w.token, contentDigest(data), len(data), data)
	conn.Close()
	time.Sleep(300 * time.Millisecond)
	if r, _ := w.ask("GET", "/files/intake/cut/1/x", nil, nil); r.StatusCode != 404 {
		t.Errorf("a cut upload was admitted: %d", r.StatusCode)
	}
}

// The same bytes sent twice at the same time end as one blob, and both senders are told so.
func TestSameUploadTwiceAtOnce(t *testing.T) {
	w := newWorld(t)
	data, f := random(t, 40<<20)
	file := filepath.Join(w.dir, "f")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	other := client.New(w.address, w.signInAs("ida"))
	var both sync.WaitGroup
	errs := make([]error, 2)
	for i, c := range []*client.Client{w.owner, other} {
		both.Go(func() { errs[i] = c.Upload(context.WithoutCancel(t.Context()), file, f, func(int64) {}) })
	}
	both.Wait()
	if errs[0] != nil || errs[1] != nil {
		t.Fatal(errs)
	}
	if out := w.ok("deliver", "intake/twice@1", file); !strings.Contains(out, "is sealed") {
		t.Error(out)
	}
}

// A large new file is hashed while it is sent; the same file again sends no byte.
func TestLargeNewFile(t *testing.T) {
	w := newWorld(t)
	data, _ := random(t, 40<<20)
	file := filepath.Join(w.dir, "large")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	if out := w.ok("deliver", "intake/large@1", file); !strings.Contains(out, "is sealed: 1 file, 41.9 MB") {
		t.Error(out)
	}
	sent := int64(0)
	if f, err := w.owner.Send(t.Context(), file, func(n int64) { sent = n }); err != nil || sent != 0 || f.Digest != artifact.DigestOf(data) {
		t.Errorf("the same again: %d bytes sent, %v", sent, err)
	}
	w.ok("fetch", "intake/large@1", "--into", "got")
	if got, _ := os.ReadFile(filepath.Join(w.dir, "got", "large")); !bytes.Equal(got, data) {
		t.Error("other bytes came back")
	}
	empty := filepath.Join(w.dir, "empty")
	if err := os.WriteFile(empty, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if out := w.ok("deliver", "intake/empty@1", empty); !strings.Contains(out, "1 file, 0 B") {
		t.Error(out)
	}
	w.ok("fetch", "intake/empty@1", "--into", "got")
}

// A digest counts as here only for someone who may read it.
func TestPresenceIsNotTold(t *testing.T) {
	w := newWorld(t)
	file := filepath.Join(w.dir, "secret.txt")
	if err := os.WriteFile(file, []byte("the price of honey"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.ok("deliver", "intake/price@1", file)
	if out, code := w.run(password, "person", "add", "nell"); code != 0 {
		t.Fatal(out)
	}
	nell := client.New(w.address, w.signInAs("nell"))
	digest := artifact.DigestOf([]byte("the price of honey"))
	if lacking, err := nell.Lacking(t.Context(), []artifact.Digest{digest}); err != nil || !lacking[digest] {
		t.Errorf("a stranger learns that the file is here: %v %v", lacking, err)
	}
	if err := nell.Call(t.Context(), "GET", "/api/v1/trace/"+string(digest), nil, nil); !fault.Is(err, fault.KindMissing) {
		t.Errorf("a stranger traces it: %v", err)
	}
	if err := nell.Call(t.Context(), "GET", "/files/intake/price/1/secret.txt", nil, nil); !fault.Is(err, fault.KindMissing) {
		t.Errorf("a stranger gets it: %v", err)
	}
	w.ok("project", "member", "heath", "nell", "read")
	if lacking, err := nell.Lacking(t.Context(), []artifact.Digest{digest}); err != nil || lacking[digest] {
		t.Errorf("a reader is asked for it: %v %v", lacking, err)
	}
	if err := nell.Call(t.Context(), "POST", "/api/v1/deliveries", map[string]any{"store": "intake", "name": "x", "version": "1",
		"files": []artifact.File{{Path: "x", Size: 18, Digest: digest}}}, nil); !fault.Is(err, fault.KindRefused) {
		t.Errorf("a reader delivers: %v", err)
	}
}

// The body of a refused request is not taken for the next request on the connection.
func TestNoSmuggling(t *testing.T) {
	w := newWorld(t)
	inner := "GET /api/v1/status HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + w.token + "\r\n\r\n"
	for _, head := range []string{"PUT /files/intake/a/1/x HTTP/1.1\r\nHost: x\r\n", "POST /nowhere HTTP/1.1\r\nHost: x\r\n", "POST /api/v1/people HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer okp_wrong\r\n"} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(w.address, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "%sContent-Length: %d\r\n\r\n%s", head, len(inner), inner)
		_ = conn.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
		answer, _ := io.ReadAll(conn)
		conn.Close()
		if strings.Count(string(answer), "HTTP/1.1 ") != 1 || strings.Contains(string(answer), "public_key") {
			t.Errorf("%q: the body was taken for a request:\n%s", head, answer)
		}
	}
}

// Every error is problem+json, the router's own among them.
func TestProblems(t *testing.T) {
	w := newWorld(t)
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"GET", "/api/v1/nowhere", "", 404}, {"DELETE", "/api/v1/projects", "", 405}, {"GET", "/api/v1/builds/a/0", "", 422}, {"GET", "/api/v1/builds/a/x", "", 422},
		{"POST", "/api/v1/projects", "{", 400}, {"POST", "/api/v1/projects", `{"name":"..","summary":""}`, 422}, {"POST", "/api/v1/projects", `{"nam":"x"}`, 422},
		{"POST", "/api/v1/projects", `{"name":"heath"}`, 409}, {"GET", "/api/v1/artifact?ref=x", "", 422}, {"GET", "/api/v1/stores/nowhere", "", 404},
		{"POST", "/api/v1/session", `{"name":"ida","password":"wrong-password"}`, 401}, {"POST", "/agents/take", "{}", 403}, {"PATCH", "/blobs/xyz", "", 422},
		{"POST", "/api/v1/projects", strings.Repeat("x", 5<<20), 413},
	} {
		r, text := w.ask(c.method, c.path, strings.NewReader(c.body), map[string]string{"Content-Type": "application/json"})
		if r.StatusCode != c.status || r.Header.Get("Content-Type") != "application/problem+json" || !strings.Contains(text, `"type":"urn:oskeld:problem:`) {
			t.Errorf("%s %s: %d, want %d: %s %s", c.method, c.path, r.StatusCode, c.status, r.Header.Get("Content-Type"), text[:min(200, len(text))])
		}
	}
}

// Who tries passwords is slowed down; others still get in.
func TestWrongPasswords(t *testing.T) {
	w := newWorld(t)
	if out, code := w.run(password, "person", "add", "per"); code != 0 {
		t.Fatal(out)
	}
	waits := 0
	for range 8 {
		r, text := w.ask("POST", "/api/v1/session", strings.NewReader(`{"name":"per","password":"wrong-password"}`), nil)
		if r.StatusCode == 403 && strings.Contains(text, "too many wrong passwords") {
			waits++
		} else if r.StatusCode != 401 {
			t.Errorf("%d %s", r.StatusCode, text)
		}
	}
	if waits == 0 {
		t.Error("eight wrong passwords in a row, and no wait")
	}
	if n := strings.Count(w.ok("records", "person per"), "sign-in refused"); n < 5 {
		t.Errorf("%d refused sign-ins are on record", n)
	}
}

// A follower that lost its connection goes on from the last event it has.
func TestFollowResumes(t *testing.T) {
	w := newWorld(t)
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("[stage.a]\nscript = \"echo one; %s; echo two\"\n", wait))
	w.agent("barrow")
	b := w.start("hivebook", "")
	path := "/api/v1/builds/hivebook/1/follow"
	at, first := "", ""
	err := w.owner.Events(t.Context(), path, "", func(e client.Event) (bool, error) {
		if e.ID != "" {
			at = e.ID
		}
		if e.Name == "lines" {
			first += string(e.Data)
		}
		return !strings.Contains(first, "one"), nil
	})
	if err != nil {
		t.Fatal(err)
	}
	open()
	rest, ends := "", false
	err = w.owner.Events(t.Context(), path, at, func(e client.Event) (bool, error) {
		if e.Name == "lines" {
			rest += string(e.Data)
		}
		ends = e.Name == "end"
		return !ends, nil
	})
	if err != nil || !ends || strings.Contains(rest, `"one"`) || !strings.Contains(rest, `"two"`) {
		t.Errorf("after %s came %s (%v)", at, rest, err)
	}
	w.await(b)
}
