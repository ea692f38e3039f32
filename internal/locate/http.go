package locate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"trevak/internal/fault"
)

// IsURL reports whether a source is fetched over HTTP.
func IsURL(source string) bool {
	return strings.HasPrefix(source, "http://") || strings.HasPrefix(source, "https://")
}

// A request is tried so often, waiting longer each time.
const tries = 5

// firstWait is how long is waited before the second try; it doubles with each further one.
var firstWait = 200 * time.Millisecond

// remote takes an object behind a URL.
func (f *Found) remote(ctx context.Context, url string) error {
	r := &remote{ctx: ctx, url: url}
	defer r.Close()
	if err := r.connect(); err != nil {
		return err
	}
	object := Object{Location: url, Size: max(0, r.size), store: fetched(url)}
	if at, err := http.ParseTime(r.modified); err == nil {
		object.Modified = at
	}
	if r.size == 0 {
		f.Empty++
		return nil
	}
	f.Objects = append(f.Objects, object)
	return nil
}

// remote reads an object behind a URL. When the connection breaks it goes on where it was, by a range request.
type remote struct {
	ctx      context.Context
	url      string
	body     io.ReadCloser
	offset   int64
	size     int64 // -1 where the server does not tell
	tag      string
	modified string
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
		e := fault.New(fault.Storage, "could not be fetched in %d tries", tries).In(r.url).Try("try again later, or fetch the file by other means")
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
	req, err := http.NewRequestWithContext(r.ctx, http.MethodGet, r.url, nil)
	if err != nil {
		return fault.New(fault.Usage, "%q is no URL that can be fetched: %s", r.url, err)
	}
	// Compressed transfer would make ranges and sizes mean something else.
	req.Header.Set("Accept-Encoding", "identity")
	if r.offset > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", r.offset))
		if r.tag != "" {
			req.Header.Set("If-Range", r.tag)
		}
	}
	answer, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	switch {
	case answer.StatusCode == http.StatusOK && r.offset == 0:
		r.size, r.tag, r.modified = answer.ContentLength, answer.Header.Get("ETag"), answer.Header.Get("Last-Modified")
	case answer.StatusCode == http.StatusPartialContent && r.offset > 0:
	case answer.StatusCode == http.StatusOK:
		answer.Body.Close()
		return fault.New(fault.Storage, "has changed on the server, or cannot be read on from byte %d", r.offset).In(r.url).Try("run the command again")
	case answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500:
		answer.Body.Close()
		return fmt.Errorf("the server answers %s", answer.Status)
	default:
		answer.Body.Close()
		return fault.New(fault.Storage, "the server answers %s", answer.Status).In(r.url).Try("check the address")
	}
	r.body = answer.Body
	return nil
}

func (r *remote) Read(p []byte) (int, error) {
	for {
		if r.body == nil {
			if err := r.connect(); err != nil {
				return 0, err
			}
		}
		n, err := r.body.Read(p)
		r.offset += int64(n)
		switch {
		case n > 0:
			r.failures = 0
			return n, nil
		case err == nil:
			continue
		case errors.Is(err, io.EOF) && (r.size < 0 || r.offset >= r.size):
			return 0, io.EOF
		case r.ctx.Err() != nil:
			return 0, r.ctx.Err()
		}
		r.body.Close()
		r.body = nil
		if err := r.wait(err); err != nil {
			return 0, err
		}
	}
}

func (r *remote) Close() error {
	if r.body == nil {
		return nil
	}
	return r.body.Close()
}
