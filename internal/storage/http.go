package storage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"syscall"
	"time"

	"trevak/internal/fault"
)

// IsURL reports whether a source is fetched over HTTP.
func IsURL(source string) bool {
	return strings.HasPrefix(source, "http://") || strings.HasPrefix(source, "https://")
}

// HTTP is the objects behind URLs, which can be read alone.
type HTTP struct{ web Web }

// NewHTTP returns the store of what is fetched over HTTP.
func NewHTTP(w Web) HTTP {
	if w.Patience <= 0 {
		w.Patience = DefaultPatience
	}
	if w.Pause <= 0 {
		w.Pause = usualPause
	}
	return HTTP{w}
}

// readOnly is the error for what would change something.
func readOnly(op, uri string) error {
	return fmt.Errorf("%s %s: what is behind a URL can only be read: %w", op, Shown(uri), errors.ErrUnsupported)
}

// List is not supported: servers tell of single objects.
func (h HTTP) List(_ context.Context, folder string) ([]Entry, error) {
	return nil, readOnly("list", folder)
}

// Create is not supported.
func (h HTTP) Create(_ context.Context, uri string, _ Creation) (Writer, error) {
	return nil, readOnly("create", uri)
}

// Remove is not supported.
func (h HTTP) Remove(_ context.Context, uri string) error { return readOnly("remove", uri) }

// Canonical returns the URL without anything secret.
func (h HTTP) Canonical(uri string) (string, error) { return Shown(uri), nil }

// Stat asks for an object and looks at the head of the answer.
func (h HTTP) Stat(ctx context.Context, uri string) (Object, error) {
	Asked(ctx)
	r := &remote{ctx: ctx, url: uri, web: h.web, version: Version{Size: UnknownSize}}
	defer r.Close()
	err := r.connect()
	return Object{URI: uri, Version: r.version}, err
}

// Open reads an object, which has to be at the version that it was listed at.
func (h HTTP) Open(ctx context.Context, o Object) (File, error) {
	return &remote{ctx: ctx, url: o.URI, web: h.web, version: o.Version, listed: true, until: UnknownSize}, nil
}

// Web is how objects are fetched.
type Web struct {
	// Patience is how long a server may be silent, or send less than leastSent; 0 for DefaultPatience.
	Patience time.Duration
	// Pause is how long is waited before the second try, 0 for a fifth of a second; it doubles with each further one.
	Pause time.Duration
}

// DefaultPatience is how long a server may be silent where nothing else is said.
const DefaultPatience = time.Minute

// leastSent is how many bytes a server has to send in the time that it is given, so that one which sends drops ends as well as
// a silent one.
const leastSent = 16 << 10

// A request is tried so often, waiting longer each time.
const tries = 5

const usualPause = 200 * time.Millisecond

// client follows a server to other addresses of the same scheme only.
var client = &http.Client{CheckRedirect: func(to *http.Request, via []*http.Request) error {
	from := via[0].URL
	if to.URL.Scheme != from.Scheme {
		return fault.New(fault.Storage, "the server leads from %s to another scheme, %s, which is not followed", from.Scheme,
			to.URL.Scheme).
			Try("if that is meant, name the address itself: %s", Shown(to.URL.String()))
	}
	if len(via) > 10 {
		return fault.New(fault.Storage, "the server leads to another address more than 10 times").Try("check the address")
	}
	return nil
}}

// validator is what a request for a range of this version can be tied to (RFC 9110, section 13.1.5); empty where the server gives none.
func (v Version) validator() string {
	if v.Tag != "" && !strings.HasPrefix(v.Tag, "W/") {
		return v.Tag
	}
	return v.stamp
}

// remote reads an object behind a URL. When the connection breaks it goes on where it was, by a range request for the same version.
type remote struct {
	ctx     context.Context
	url     string
	web     Web
	version Version
	// listed says that version is that of the object when it was listed, and has to be met again.
	listed bool
	body   io.ReadCloser
	// asked is the context of the request, and quit ends it.
	asked context.Context
	quit  context.CancelCauseFunc
	// sent is how much came in the time waited.
	sent   int64
	waited time.Duration
	offset int64
	// ranged says that only the bytes up to until are wanted; UnknownSize is the end.
	ranged   bool
	until    int64
	failures int
}

// connect asks for the rest of the object.
func (r *remote) connect() error {
	for {
		err := r.request()
		if err == nil || final(err) || r.ctx.Err() != nil {
			return err
		}
		if err := r.wait(err); err != nil {
			return err
		}
	}
}

// plainly takes out of an error of a connection what the network library says about its calls.
func plainly(cause error) error {
	var name *net.DNSError
	var call *net.OpError
	var number syscall.Errno
	switch {
	case errors.As(cause, &name):
		return fmt.Errorf("there is no server %s", name.Name)
	case errors.As(cause, &number):
		return number
	case errors.As(cause, &call):
		return call.Err
	}
	return cause
}

// wait pauses before another try, or says that there were enough.
func (r *remote) wait(cause error) error {
	if r.failures++; r.failures >= tries {
		e := fault.New(fault.Storage, "could not be fetched in %d tries",
			tries).In(Shown(r.url)).Try("try again later, or fetch the file by other means")
		e.Cause = plainly(cause)
		return e
	}
	timer := time.NewTimer(r.web.Pause << (r.failures - 1))
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-r.ctx.Done():
		return r.ctx.Err()
	}
}

// request sends one request and looks at the answer. An error without a kind is worth another try.
func (r *remote) request() error {
	r.asked, r.quit = context.WithCancelCause(r.ctx)
	r.sent, r.waited = 0, 0
	req, err := http.NewRequestWithContext(r.asked, http.MethodGet, r.url, nil)
	if err != nil {
		return fault.New(fault.Usage, "%q is no URL that can be fetched", Shown(r.url)).Try("check how it is written")
	}
	// Compressed transfer would make ranges and sizes mean something else.
	req.Header.Set("Accept-Encoding", "identity")
	if r.offset > 0 && !r.ranged {
		if r.version.validator() == "" {
			return fault.New(fault.Storage, "the connection broke after %d bytes, and the server does not tell one version of the "+
				"object from another, so nothing can be put behind them", r.offset).
				In(Shown(r.url)).Try("run the command again, or fetch the file by other means")
		}
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", r.offset))
	}
	if r.ranged {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", r.offset, r.until-1))
	}
	if r.offset > 0 || r.ranged {
		req.Header.Set("If-Range", r.version.validator())
	}
	var answer *http.Response
	r.patiently(func() { answer, err = client.Do(req) })
	if err != nil {
		return r.failed(err)
	}
	if err := r.accept(answer); err != nil {
		answer.Body.Close()
		return err
	}
	r.body = answer.Body
	return nil
}

// patiently calls a function that waits for the server, and ends the request when it has had its time.
func (r *remote) patiently(f func()) {
	began := time.Now()
	watch := time.AfterFunc(r.web.Patience-r.waited, func() {
		r.quit(fault.New(fault.Storage, "the server has sent less than %d bytes in %s", leastSent, r.web.Patience).In(Shown(r.url)).
			Try("try again later, or give it more time with --timeout"))
	})
	f()
	watch.Stop()
	r.waited += time.Since(began)
}

// failed tells a server that was too slow from a connection that failed, and leaves out of the error what may be secret.
func (r *remote) failed(err error) error {
	var slow *fault.Error
	if errors.As(context.Cause(r.asked), &slow) && r.ctx.Err() == nil {
		return slow
	}
	var known *fault.Error
	if errors.As(err, &known) {
		return known.In(Shown(r.url))
	}
	// The text of url.Error holds the whole address.
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	return err
}

// accept looks at the head of an answer.
func (r *remote) accept(answer *http.Response) error {
	partial := r.offset > 0 || r.ranged
	switch {
	case answer.StatusCode == http.StatusOK && !partial:
		now := Version{Size: answer.ContentLength, Tag: answer.Header.Get("ETag"), stamp: answer.Header.Get("Last-Modified")}
		if at, err := http.ParseTime(now.stamp); err == nil {
			now.Modified = at
		}
		if r.listed && !now.Equal(r.version) {
			return &ChangedError{fmt.Sprintf("the server had %s, and now has %s", r.version, now),
				"run the command again; where the server makes it anew each time, fetch it by other means and load the file"}
		}
		r.version = now
	case answer.StatusCode == http.StatusPartialContent && partial:
		return r.rightRange(answer)
	case answer.StatusCode == http.StatusOK:
		return changed("the server would not read it on from byte %d", r.offset)
	case answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500:
		return fmt.Errorf("the server answers %s", answer.Status)
	default:
		return fault.New(fault.Storage, "the server answers %s", answer.Status).In(Shown(r.url)).Try("check the address")
	}
	return nil
}

// rightRange checks that an answer has the bytes that were asked for, of the version that was begun with (RFC 9110, section 14.4).
func (r *remote) rightRange(answer *http.Response) error {
	var from, to int64
	var size string
	stated := answer.Header.Get("Content-Range")
	end := r.version.Size
	if r.ranged {
		end = r.until
	}
	if n, err := fmt.Sscanf(stated, "bytes %d-%d/%s", &from, &to, &size); n != 3 || err != nil || from != r.offset ||
		end != UnknownSize && to != end-1 ||
		r.version.Size != UnknownSize && size != "*" && size != fmt.Sprint(r.version.Size) {
		return fault.New(fault.Storage, "was asked for from byte %d on, but the server answers with the range %q", r.offset,
			stated).In(Shown(r.url)).
			Try("fetch the file by other means; nothing of it was kept")
	}
	if tag := answer.Header.Get("ETag"); tag != "" && r.version.Tag != "" && tag != r.version.Tag {
		return changed("its version was %s, and now is %s", r.version.Tag, tag)
	}
	return nil
}

// final reports whether an error is none that another try could mend.
func final(err error) bool { return fault.KindOf(err) != 0 || errors.Is(err, ErrChanged) }

func (r *remote) Read(p []byte) (int, error) {
	for {
		if r.body == nil {
			if err := r.connect(); err != nil {
				return 0, err
			}
		}
		var n int
		var err error
		r.patiently(func() { n, err = r.body.Read(p) })
		r.offset += int64(n)
		if r.sent += int64(n); r.sent >= leastSent {
			r.sent, r.waited = 0, 0
		}
		switch {
		case n > 0:
			r.failures = 0
			return n, nil
		case err == nil:
			continue
		case errors.Is(err, io.EOF) && (r.end() < 0 || r.offset >= r.end()):
			return 0, io.EOF
		case r.ctx.Err() != nil:
			return 0, r.ctx.Err()
		}
		err = r.failed(err)
		r.hangUp()
		if final(err) {
			return 0, err
		}
		if err := r.wait(err); err != nil {
			return 0, err
		}
	}
}

// end is the offset at which reading ends, UnknownSize where the server does not tell.
func (r *remote) end() int64 {
	if r.ranged {
		return r.until
	}
	return r.version.Size
}

// ReadAt asks for some bytes alone.
func (r *remote) ReadAt(p []byte, offset int64) (int, error) {
	until, short := offset+int64(len(p)), error(nil)
	if size := r.version.Size; size != UnknownSize && until > size {
		until, short = size, io.EOF
	}
	if offset >= until {
		return 0, short
	}
	part := &remote{ctx: r.ctx, url: r.url, web: r.web, version: r.version, listed: true, offset: offset, ranged: true, until: until}
	defer part.Close()
	n, err := io.ReadFull(part, p[:until-offset])
	if err == nil {
		err = short
	}
	return n, err
}

// Unchanged has nothing left to find: every answer was held against the version.
func (r *remote) Unchanged() error { return nil }

// hangUp ends the request.
func (r *remote) hangUp() {
	if r.body != nil {
		r.body.Close()
		r.body = nil
	}
	if r.quit != nil {
		r.quit(nil)
	}
}

func (r *remote) Close() error {
	r.hangUp()
	return nil
}
