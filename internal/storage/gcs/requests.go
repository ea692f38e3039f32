package gcs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
)

// answer is what a server says where it does not do what was asked; status is 0 where nobody was asked.
type answer struct {
	status          int
	reason, message string
}

func (a *answer) Error() string { return fmt.Sprintf("%d (%s): %s", a.status, a.reason, a.message) }

// noBucket reports whether it is the bucket that is not there.
func (a *answer) noBucket() bool { return strings.Contains(strings.ToLower(a.message), "bucket") }

func asAnswer(err error) (*answer, bool) { return errors.AsType[*answer](err) }

// send sends a request. An answer that is no success is an error; the body of one that is remains to be closed.
func (s *server) send(r *http.Request) (*http.Response, error) {
	if err := s.tokens.sign(r.Context(), r); err != nil {
		return nil, err
	}
	got, err := s.client.Do(r)
	if err != nil {
		return nil, err
	}
	if got.StatusCode < 300 || got.StatusCode == statusGoOn && r.Method == http.MethodPut {
		return got, nil
	}
	defer got.Body.Close()
	// Whatever precedes the end of so much of the text says enough.
	text, _ := io.ReadAll(io.LimitReader(got.Body, 64<<10))
	out := &answer{status: got.StatusCode}
	var told struct {
		Error struct {
			Message string `json:"message"`
			Errors  []struct {
				Reason string `json:"reason"`
			} `json:"errors"`
		} `json:"error"`
	}
	if json.Unmarshal(text, &told) == nil {
		out.message = told.Error.Message
		for _, e := range told.Error.Errors {
			out.reason = e.Reason
		}
	} else if len(text) < 300 {
		out.message = strings.TrimSpace(string(text))
	}
	return nil, out
}

// finished is send for requests whose answer has no body of use.
func (s *server) finished(r *http.Request) (*http.Response, error) {
	got, err := s.send(r)
	if err == nil {
		_, err = io.Copy(io.Discard, io.LimitReader(got.Body, 1<<20))
		got.Body.Close()
	}
	return got, err
}

// patiently sends a request, again and again while that can help.
func (s *server) patiently(ctx context.Context, send func() (*http.Response, error)) (got *http.Response, err error) {
	err = remote.Patiently(ctx, s, func() (err error) {
		got, err = send()
		return err
	})
	return got, err
}

// Address is the address of the store.
func (s *server) Address() string { return s.address }

// Final reports whether asking again cannot help.
func (s *server) Final(err error) bool { return final(err) }

func final(err error) bool {
	told, ok := asAnswer(err)
	return ok && (told.reason == "noCredentials" || remote.Refused(told.status))
}

// ask asks for a description.
func (s *server) ask(ctx context.Context, place string, into any) error {
	_, err := s.patiently(ctx, func() (*http.Response, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, place, nil)
		if err != nil {
			return nil, err
		}
		got, err := s.send(r)
		if err != nil {
			return nil, err
		}
		defer got.Body.Close()
		return got, json.NewDecoder(got.Body).Decode(into)
	})
	return err
}

// rights are the service's names of what requests need.
var rights = map[remote.Right]string{remote.Read: "storage.objects.get", remote.List: "storage.objects.list",
	remote.Write: "storage.objects.create", remote.Delete: "storage.objects.delete", remote.ListUploads: "storage.objects.list"}

// Denied reports whether a right is missing.
func (b bucket) Denied(err error) bool {
	told, ok := asAnswer(err)
	return ok && told.status == http.StatusForbidden
}

// Explain makes of what a server answered an error that says what to do.
func (b bucket) Explain(key string, needs remote.Right, err error) error {
	if !remote.Untold(err) {
		return err
	}
	shown := storage.Shown(b.Base() + "/" + key)
	told, ok := asAnswer(err)
	if !ok {
		return remote.Unreachable(shown, storage.Shown(b.address), err)
	}
	switch {
	case told.status == http.StatusNotFound && told.noBucket():
		return fault.New(fault.Storage, "there is no bucket %s", b.name).In(shown).
			Try("check its name, and which store it is of: %s", storage.Shown(b.address))
	case told.status == http.StatusNotFound:
		return &fs.PathError{Op: "open", Path: shown, Err: fs.ErrNotExist}
	case told.status == http.StatusPreconditionFailed:
		return remote.Changed
	case told.status == http.StatusUnauthorized, told.reason == "noCredentials":
		return fault.New(fault.Storage, "the store does not accept who asks (%s): the request was %s", said(told), b.tokens.kind).In(shown).
			Try("have GOOGLE_APPLICATION_CREDENTIALS name a file of credentials, or log in by the cloud's command line")
	case told.status == http.StatusForbidden:
		return fault.New(fault.Storage, "the store refuses: the right %s is missing; the request was %s", rights[needs], b.tokens.kind).
			In(shown).Try("have the right given for bucket %s, or use other credentials", b.name)
	}
	e := fault.New(fault.Storage, "the store answers %d (%s)", told.status, said(told)).In(shown).Try("try again later")
	return e
}

func said(a *answer) string {
	if a.message != "" {
		return a.message
	}
	return a.reason
}
