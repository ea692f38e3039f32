package s3

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"strings"

	"github.com/minio/minio-go/v7"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
)

// rights are the protocol's names of what requests need.
var rights = map[remote.Right]string{remote.Read: "s3:GetObject", remote.List: "s3:ListBucket", remote.Write: "s3:PutObject",
	remote.Delete: "s3:DeleteObject", remote.ListUploads: "s3:ListBucketMultipartUploads"}

// Explain makes of what a server answered an error that says what to do.
func (b bucket) Explain(key string, needs remote.Right, err error) error {
	if !remote.Untold(err) {
		return err
	}
	answer := minio.ToErrorResponse(err)
	shown, right := storage.Shown(b.Base()+"/"+key), rights[needs]
	switch answer.Code {
	case "NoSuchBucket":
		return fault.New(fault.Storage, "there is no bucket %s", b.name).In(shown).
			Try("check its name, and which store it is of: %s", b.server())
	case "InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken", "ExpiredTokenException", "InvalidToken", "TokenRefreshRequired",
		"AuthFailure":
		return fault.New(fault.Storage, "the store does not accept who asks (%s): the request was %s", answer.Code, b.chain.tried()).In(shown).
			Try("renew them, or have the environment or the profile name others")
	case "AccessDenied", "AllAccessDisabled", "Forbidden", "MethodNotAllowed":
		return fault.New(fault.Storage, "the store refuses: the right %s is missing; the request was %s", right, b.chain.tried()).In(shown).
			Try("have the right given for bucket %s, or use other credentials", b.name)
	case "ConditionalRequestConflict":
		return remote.Changed
	case "NotImplemented":
		return fmt.Errorf("%s: %s: %w", shown, answer.Message, errors.ErrUnsupported)
	}
	switch answer.StatusCode {
	case http.StatusNotFound:
		return &fs.PathError{Op: "open", Path: shown, Err: fs.ErrNotExist}
	case http.StatusForbidden, http.StatusUnauthorized:
		return fault.New(fault.Storage, "the store refuses: the right %s is missing, or there is no such object; the request was %s", right,
			b.chain.tried()).In(shown).Try("check the name, have the right given for bucket %s, or use other credentials", b.name)
	case http.StatusPreconditionFailed:
		return remote.Changed
	case 0:
		return remote.Unreachable(shown, b.server(), err)
	}
	e := fault.New(fault.Storage, "the store answers %d (%s)", answer.StatusCode, answer.Code).In(shown).Try("try again later")
	if text := strings.TrimSpace(answer.Message); text != "" {
		e.Cause = errors.New(text)
	}
	return e
}

// Address is the address of the store.
func (b bucket) Address() string { return b.server() }

func (b bucket) server() string { return storage.Shown(b.EndpointURL().String()) }

// Denied reports whether a right is missing.
func (bucket) Denied(err error) bool {
	answer := minio.ToErrorResponse(err)
	return answer.Code == "AccessDenied" || answer.StatusCode == http.StatusForbidden && answer.Code == ""
}

// Final reports whether asking again cannot help.
func (bucket) Final(err error) bool {
	return remote.Refused(minio.ToErrorResponse(err).StatusCode)
}
