// Package web is the service's face to the network: listener, sign-in, rights, errors, live
// events and the protocols, on Fiber.
//
//	server := web.New(service, web.Options{Console: console.Files})
//	err := server.Serve(ctx, listener)
package web

import (
	"errors"
	"io"
	"net"
	"os"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/fault"
)

// watchedListener gives connections that note when the peer has gone. It wraps by embedding, so
// that sendfile still finds the TCP connection underneath.
type watchedListener struct{ *net.TCPListener }

type watchedConn struct {
	*net.TCPConn
	ended atomic.Bool
}

func (l watchedListener) Accept() (net.Conn, error) {
	c, err := l.AcceptTCP()
	if err != nil {
		return nil, err
	}
	return &watchedConn{TCPConn: c}, nil
}

func (c *watchedConn) Read(p []byte) (int, error) {
	n, err := c.TCPConn.Read(p)
	if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		c.ended.Store(true)
	}
	return n, err
}

// body is a request's body that knows whether it came whole. The server underneath reports a
// client that died in the middle as a clean end.
type body struct {
	from   io.Reader
	conn   *watchedConn
	want   int64 // bytes announced, -1 for a chunked body
	got    int64
	sticky error
}

func (b *body) Read(p []byte) (int, error) {
	if b.sticky != nil {
		return 0, b.sticky
	}
	n, err := b.from.Read(p)
	b.got += int64(n)
	if errors.Is(err, io.EOF) && (b.want >= 0 && b.got < b.want || b.want < 0 && b.conn != nil && b.conn.ended.Load()) {
		err = io.ErrUnexpectedEOF
	}
	b.sticky = err
	return n, err
}

type bodyKey struct{}

// bodyOf is the body of the request; the guard drains what nobody reads.
func bodyOf(c fiber.Ctx) *body { return c.Locals(bodyKey{}).(*body) }

const (
	drainMost = 64 << 20
	drainTime = 2 * time.Second
)

// guardBody makes sure that a body is read to its end, or the connection closed: an unread rest
// would be taken for the next request.
func guardBody(c fiber.Ctx) error {
	request := &c.RequestCtx().Request
	b := &body{from: request.BodyStream(), want: int64(request.Header.ContentLength())}
	b.conn, _ = c.RequestCtx().Conn().(*watchedConn)
	if b.from == nil || b.want == 0 {
		b.sticky = io.EOF
	}
	if b.want < -1 {
		b.want, b.sticky = 0, io.EOF
	}
	c.Locals(bodyKey{}, b)
	err := c.Next()
	if b.sticky == nil {
		if b.conn != nil {
			_ = b.conn.SetReadDeadline(time.Now().Add(drainTime))
		}
		n, drainErr := io.Copy(io.Discard, io.LimitReader(b, drainMost))
		if b.conn != nil {
			_ = b.conn.SetReadDeadline(time.Time{})
		}
		if drainErr != nil || n == drainMost {
			c.RequestCtx().SetConnectionClose()
		}
	} else if !errors.Is(b.sticky, io.EOF) {
		c.RequestCtx().SetConnectionClose()
	}
	return err
}

// limited refuses a body beyond a limit, in bytes.
func limited(r io.Reader, most int64) io.Reader { return &limitReader{r, most, most} }

type limitReader struct {
	r          io.Reader
	left, most int64
}

func (l *limitReader) Read(p []byte) (int, error) {
	if l.left <= 0 {
		var one [1]byte
		if n, err := l.r.Read(one[:]); n == 0 {
			return 0, err
		}
		return 0, fault.Invalid("the body is larger than %d bytes", l.most)
	}
	n, err := l.r.Read(p[:min(int64(len(p)), l.left)])
	l.left -= int64(n)
	return n, err
}
