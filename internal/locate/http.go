package locate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"trevak/internal/fault"
)

// IsURL reports whether a source is fetched over HTTP.
func IsURL(source string) bool {
	return strings.HasPrefix(source, "http://") || strings.HasPrefix(source, "https://")
}

// Web is how objects are fetched.
type Web struct {
	// Patience is how long a server may be silent, or send less than leastSent; 0 for DefaultPatience.
	Patience time.Duration
}

// DefaultPatience is how long a server may be silent where nothing else is said.
const DefaultPatience = time.Minute

// leastSent is how many bytes a server has to send in the time that it is given, so that one which sends drops ends as well as a silent one.
const leastSent = 16 << 10

// A request is tried so often, waiting longer each time.
const tries = 5

// firstWait is how long is waited before the second try; it doubles with each further one.
var firstWait = 200 * time.Millisecond

// client follows a server to other addresses of the same scheme only.
var client = &http.Client{CheckRedirect: func(to *http.Request, via []*http.Request) error {
	from := via[0].URL
	if to.URL.Scheme != from.Scheme {
		return fault.New(fault.Storage, "the server leads from %s to another scheme, %s, which is not followed", from.Scheme, to.URL.Scheme).
			Try("if that is meant, name the address itself: %s", Shown(to.URL.String()))
	}
	if len(via) > 10 {
		return fault.New(fault.Storage, "the server leads to another address more than 10 times").Try("check the address")
	}
	return nil
}}

// remote takes an object behind a URL.
func (f *Found) remote(ctx context.Context, source string, w Web) error {
	if w.Patience <= 0 {
		w.Patience = DefaultPatience
	}
	r := &remote{ctx: ctx, url: source, web: w, version: remoteVersion{size: unknownSize}}
	defer r.Close()
	if err := r.connect(); err != nil {
		return err
	}
	object := Object{Location: Shown(source), Size: max(0, r.version.size), store: fetched{source, w, r.version}}
	if at, err := http.ParseTime(r.version.modified); err == nil {
		object.Modified = at
	}
	if r.version.size == 0 {
		f.Empty++
		return nil
	}
	f.Objects = append(f.Objects, object)
	return nil
}

// unknownSize stands for the size of an object of which the server does not tell it.
const unknownSize = -1

// remoteVersion tells one state of an object behind a URL from another, as far as the server does.
type remoteVersion struct {
	size          int64
	tag, modified string
}

// validator is what a request for a range of this version can be tied to (RFC 9110, section 13.1.5); empty where the server gives none.
func (v remoteVersion) validator() string {
	if v.tag != "" && !strings.HasPrefix(v.tag, "W/") {
		return v.tag
	}
	return v.modified
}

// fetched is an object behind a URL, at the version that was listed.
type fetched struct {
	url     string
	web     Web
	version remoteVersion
}

func (f fetched) open(ctx context.Context) (reader, error) {
	return &remote{ctx: ctx, url: f.url, web: f.web, version: f.version, listed: true}, nil
}

// remote reads an object behind a URL. When the connection breaks it goes on where it was, by a range request for the same version.
type remote struct {
	ctx     context.Context
	url     string
	web     Web
	version remoteVersion
	// listed says that version is that of the object when it was listed, and has to be met again.
	listed bool
	body   io.ReadCloser
	// asked is the context of the request, and end ends it.
	asked context.Context
	end   context.CancelCauseFunc
	// sent is how much came in the time waited.
	sent     int64
	waited   time.Duration
	offset   int64
	failures int
}

// connect asks for the rest of the object.
func (r *remote) connect() error {
	for {
		err := r.request()
		var refused *fault.Error
		if err == nil || errors.As(err, &refused) || r.ctx.Err() != nil {
			return err
		}
		if err := r.wait(err); err != nil {
			return err
		}
	}
}

// wait pauses before another try, or says that there were enough.
func (r *remote) wait(cause error) error {
	if r.failures++; r.failures >= tries {
		e := fault.New(fault.Storage, "could not be fetched in %d tries", tries).In(Shown(r.url)).Try("try again later, or fetch the file by other means")
		e.Cause = cause
		return e
	}
	timer := time.NewTimer(firstWait << (r.failures - 1))
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
	r.asked, r.end = context.WithCancelCause(r.ctx)
	r.sent, r.waited = 0, 0
	req, err := http.NewRequestWithContext(r.asked, http.MethodGet, r.url, nil)
	if err != nil {
		return fault.New(fault.Usage, "%q is no URL that can be fetched", Shown(r.url)).Try("check how it is written")
	}
	// Compressed transfer would make ranges and sizes mean something else.
	req.Header.Set("Accept-Encoding", "identity")
	if r.offset > 0 {
		if r.version.validator() == "" {
			return fault.New(fault.Storage, "the connection broke after %d bytes, and the server does not tell one version of the object from another, so nothing can be put behind them", r.offset).
				In(Shown(r.url)).Try("run the command again, or fetch the file by other means")
		}
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", r.offset))
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
		r.end(fault.New(fault.Storage, "the server has sent less than %d bytes in %s", leastSent, r.web.Patience).In(Shown(r.url)).
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
	switch {
	case answer.StatusCode == http.StatusOK && r.offset == 0:
		now := remoteVersion{answer.ContentLength, answer.Header.Get("ETag"), answer.Header.Get("Last-Modified")}
		if r.listed && now != r.version {
			return changed(Shown(r.url), "the server had %s, and now has %s", r.version, now).
				Try("run the command again; where the server makes it anew each time, fetch it by other means and load the file")
		}
		r.version = now
	case answer.StatusCode == http.StatusPartialContent && r.offset > 0:
		return r.rightRange(answer)
	case answer.StatusCode == http.StatusOK:
		return changed(Shown(r.url), "the server would not read it on from byte %d", r.offset)
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
	if n, err := fmt.Sscanf(stated, "bytes %d-%d/%s", &from, &to, &size); n != 3 || err != nil || from != r.offset ||
		r.version.size != unknownSize && (to != r.version.size-1 || size != "*" && size != fmt.Sprint(r.version.size)) {
		return fault.New(fault.Storage, "was asked for from byte %d on, but the server answers with the range %q", r.offset, stated).In(Shown(r.url)).
			Try("fetch the file by other means; nothing of it was kept")
	}
	if tag := answer.Header.Get("ETag"); tag != "" && r.version.tag != "" && tag != r.version.tag {
		return changed(Shown(r.url), "its version was %s, and now is %s", r.version.tag, tag)
	}
	return nil
}

// String names a version by what the server tells of it.
func (v remoteVersion) String() string {
	text := "an object of unknown size"
	if v.size != unknownSize {
		text = fmt.Sprintf("%d bytes", v.size)
	}
	if v.tag != "" {
		text += ", version " + v.tag
	}
	if v.modified != "" {
		text += ", of " + v.modified
	}
	return text
}

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
		case errors.Is(err, io.EOF) && (r.version.size < 0 || r.offset >= r.version.size):
			return 0, io.EOF
		case r.ctx.Err() != nil:
			return 0, r.ctx.Err()
		}
		err = r.failed(err)
		r.hangUp()
		var ended *fault.Error
		if errors.As(err, &ended) {
			return 0, ended
		}
		if err := r.wait(err); err != nil {
			return 0, err
		}
	}
}

// unchanged has nothing left to find: every answer was held against the version.
func (r *remote) unchanged() error { return nil }

// hangUp ends the request.
func (r *remote) hangUp() {
	if r.body != nil {
		r.body.Close()
		r.body = nil
	}
	if r.end != nil {
		r.end(nil)
	}
}

func (r *remote) Close() error {
	r.hangUp()
	return nil
}
