package s3

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"strings"

	"github.com/minio/minio-go/v7"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// explained makes of what a server answered an error that says what to do; right is the one that the request needs.
func (p place) explained(right string, err error) error {
	if err == nil || fault.KindOf(err) != 0 || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	answer := minio.ToErrorResponse(err)
	shown := storage.Shown(p.uri)
	switch answer.Code {
	case "NoSuchBucket":
		return fault.New(fault.Storage, "there is no bucket %s", p.bucket).In(shown).
			Try("check its name, and which store it is of: %s", p.server())
	case "InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken", "ExpiredTokenException", "InvalidToken", "TokenRefreshRequired",
		"AuthFailure":
		return fault.New(fault.Storage, "the store does not accept who asks (%s): the request was %s", answer.Code, p.chain.tried()).In(shown).
			Try("renew them, or have the environment or the profile name others")
	case "AccessDenied", "AllAccessDisabled", "Forbidden", "MethodNotAllowed":
		return fault.New(fault.Storage, "the store refuses: the right %s is missing; the request was %s", right, p.chain.tried()).In(shown).
			Try("have the right given for bucket %s, or use other credentials", p.bucket)
	case "NotImplemented":
		return fmt.Errorf("%s: %s: %w", shown, answer.Message, errors.ErrUnsupported)
	}
	switch answer.StatusCode {
	case http.StatusNotFound:
		return &fs.PathError{Op: "open", Path: shown, Err: fs.ErrNotExist}
	case http.StatusForbidden, http.StatusUnauthorized:
		return fault.New(fault.Storage, "the store refuses: the right %s is missing, or there is no such object; the request was %s", right,
			p.chain.tried()).In(shown).Try("check the name, have the right given for bucket %s, or use other credentials", p.bucket)
	case http.StatusPreconditionFailed:
		return changed
	case 0:
		e := fault.New(fault.Storage, "the store cannot be reached").In(shown).Try("check its address, which is %s, and the network", p.server())
		e.Cause = plainly(err)
		return e
	}
	e := fault.New(fault.Storage, "the store answers %d (%s)", answer.StatusCode, answer.Code).In(shown).Try("try again later")
	if text := strings.TrimSpace(answer.Message); text != "" {
		e.Cause = errors.New(text)
	}
	return e
}

// server is the address of the store.
func (p place) server() string { return storage.Shown(p.EndpointURL().String()) }

var changed = &storage.ChangedError{How: "the store has another version of it now"}

// final reports whether asking again cannot help.
func final(err error) bool {
	if errors.Is(err, context.Canceled) || errors.Is(err, storage.ErrChanged) || fault.KindOf(err) == fault.Usage {
		return true
	}
	switch code := minio.ToErrorResponse(err).StatusCode; {
	case code == 0, code >= 500, code == http.StatusRequestTimeout, code == http.StatusTooManyRequests:
		return false
	}
	return true
}

// plainly takes out of an error of a connection what the network library says about its calls.
func plainly(err error) error {
	var name *net.DNSError
	var call *net.OpError
	switch {
	case errors.As(err, &name):
		return fmt.Errorf("there is no server %s", name.Name)
	case errors.As(err, &call):
		return call.Err
	}
	return err
}
