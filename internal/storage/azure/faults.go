package azure

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azidentity"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/bloberror"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
)

// rights are the service's names of what requests need.
var rights = map[remote.Right]string{remote.Read: "read of blobs", remote.List: "list of the container", remote.Write: "write of blobs",
	remote.Delete: "delete of blobs", remote.ListUploads: "list of the container"}

// Explain makes of what a server answered an error that says what to do.
func (b bucket) Explain(key string, needs remote.Right, err error) error {
	if !remote.Untold(err) {
		return err
	}
	shown := storage.Shown(b.base + "/" + key)
	if _, ok := errors.AsType[*azidentity.AuthenticationFailedError](err); ok {
		return b.unknown(shown, "no token was given")
	}
	var answer *azcore.ResponseError
	if !errors.As(err, &answer) {
		if _, ok := errors.AsType[interface {
			error
			NonRetriable()
		}](err); ok {
			return b.unknown(shown, "no credentials were found")
		}
		return remote.Unreachable(shown, storage.Shown(b.server), err)
	}
	switch bloberror.Code(answer.ErrorCode) {
	case bloberror.ContainerNotFound, bloberror.ContainerDisabled, bloberror.ContainerBeingDeleted:
		return fault.New(fault.Storage, "there is no container %s in account %s", b.name, b.account).In(shown).
			Try("check its name, and which store it is of: %s", storage.Shown(b.server))
	case bloberror.AuthenticationFailed, bloberror.InvalidAuthenticationInfo, bloberror.NoAuthenticationInformation:
		return b.unknown(shown, answer.ErrorCode)
	case bloberror.AuthorizationFailure, bloberror.AuthorizationPermissionMismatch, bloberror.InsufficientAccountPermissions:
		return fault.New(fault.Storage, "the store refuses: the right to %s is missing; the request was %s", rights[needs], b.asked).
			In(shown).Try("have the right given for container %s, or use other credentials", b.name)
	case bloberror.ConditionNotMet, bloberror.BlobAlreadyExists:
		return remote.Changed
	case bloberror.InvalidBlockList:
		return fault.New(fault.Storage, "another writer has made the same object meanwhile").In(shown).Try("run the command again")
	}
	switch answer.StatusCode {
	case http.StatusNotFound:
		return &fs.PathError{Op: "open", Path: shown, Err: fs.ErrNotExist}
	case http.StatusPreconditionFailed:
		return remote.Changed
	case http.StatusUnauthorized:
		return b.unknown(shown, answer.ErrorCode)
	case http.StatusForbidden:
		return fault.New(fault.Storage, "the store refuses: the right to %s is missing, or there is no such object; the request was %s",
			rights[needs], b.asked).In(shown).Try("check the name, have the right given for container %s, or use other credentials", b.name)
	}
	e := fault.New(fault.Storage, "the store answers %d (%s)", answer.StatusCode, answer.ErrorCode).In(shown).Try("try again later")
	if answer.ErrorCode == "" {
		e.Reason = fmt.Sprintf("the store answers %d", answer.StatusCode)
	}
	return e
}

// unknown is the error of a store that does not accept who asks.
func (b bucket) unknown(shown, why string) error {
	return fault.New(fault.Storage, "the store does not accept who asks (%s): the request was %s", why, b.asked).In(shown).
		Try("have the environment name a key, a signature or an identity that account %s knows", b.account)
}
