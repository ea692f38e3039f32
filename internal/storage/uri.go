package storage

import (
	"net/url"
	"path"
	"path/filepath"
	"strings"
)

// Scheme returns the scheme of a URI in small letters; it is empty for a path of the local disk.
func Scheme(uri string) string {
	scheme, _, ok := strings.Cut(uri, "://")
	if !ok || scheme == "" || strings.ContainsFunc(scheme, func(r rune) bool {
		return (r|0x20 < 'a' || r|0x20 > 'z') && (r < '0' || r > '9') && r != '+' && r != '-' && r != '.'
	}) {
		return ""
	}
	return strings.ToLower(scheme)
}

// local reports whether a URI is of the local disk.
func local(uri string) bool {
	scheme := Scheme(uri)
	return scheme == "" || scheme == "file"
}

// Path returns the path of a URI of the local disk; it returns others as they are.
func Path(uri string) string {
	if Scheme(uri) != "file" {
		return uri
	}
	u, err := url.Parse(uri)
	if err != nil {
		return uri[len("file://"):]
	}
	return filepath.FromSlash(u.Path)
}

// split takes a URI with a scheme apart before its path.
func split(uri string) (head, tail string) {
	at := strings.Index(uri, "://") + len("://")
	if slash := strings.IndexByte(uri[at:], '/'); slash >= 0 {
		return uri[:at+slash], uri[at+slash:]
	}
	return uri, ""
}

// Join puts parts, which have slashes between theirs, behind the URI of a folder.
func Join(folder string, parts ...string) string {
	below := path.Join(parts...)
	switch {
	case Scheme(folder) == "":
		return filepath.Join(folder, filepath.FromSlash(below))
	case below == "":
		return folder
	}
	return strings.TrimRight(folder, "/") + "/" + below
}

// Dir returns the folder that an object lies in.
func Dir(uri string) string {
	if Scheme(uri) == "" {
		return filepath.Dir(uri)
	}
	head, tail := split(uri)
	if tail = strings.TrimRight(tail, "/"); tail == "" {
		return head
	}
	return head + strings.TrimRight(path.Dir(tail), "/")
}

// Base returns the last part of a URI.
func Base(uri string) string {
	if Scheme(uri) == "" {
		return filepath.Base(uri)
	}
	return path.Base(uri)
}

// Clean returns a URI without the slashes and steps that lead nowhere.
func Clean(uri string) string {
	if Scheme(uri) == "" {
		return filepath.Clean(uri)
	}
	return strings.TrimRight(uri, "/")
}

// Rel returns the way from a folder to what lies in it, with slashes; ok is false for what lies elsewhere. The folder itself is
// ".". Both URIs are canonical.
func Rel(folder, uri string) (rel string, ok bool) {
	if Scheme(folder) != Scheme(uri) {
		return "", false
	}
	if Scheme(folder) == "" {
		rel, err := filepath.Rel(folder, uri)
		return filepath.ToSlash(rel), err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
	}
	folder, uri = Clean(folder), Clean(uri)
	if folder == uri {
		return ".", true
	}
	return strings.CutPrefix(uri, folder+"/")
}

// secretParts are what names of query parameters hold that sign a request or give access.
var secretParts = []string{"sig", "token", "secret", "passw", "pwd", "credential", "auth", "key", "policy", "x-amz-", "x-goog-", "x-ms-"}

// Shown returns a URI as it may be shown and kept: without its user information, and without its query where that gives access.
// Paths stay as they are.
func Shown(uri string) string {
	if local(uri) {
		return uri
	}
	u, err := url.Parse(uri)
	if err != nil {
		// What cannot be read cannot be told to be harmless either.
		scheme, rest, _ := strings.Cut(uri, "://")
		if at := strings.LastIndexByte(rest, '@'); at >= 0 {
			rest = rest[at+1:]
		}
		rest, _, _ = strings.Cut(rest, "?")
		return scheme + "://" + rest
	}
	secret := false
	for name := range u.Query() {
		for _, part := range secretParts {
			secret = secret || strings.Contains(strings.ToLower(name), part)
		}
	}
	_, password := u.User.Password()
	// What precedes the @ names a container there.
	container := u.User != nil && !password && (u.Scheme == "abfss" || u.Scheme == "abfs")
	if (u.User == nil || container) && !secret && u.Fragment == "" {
		return uri
	}
	if container {
		u.User = url.User(u.User.Username())
	} else {
		u.User = nil
	}
	u.Fragment, u.RawFragment = "", ""
	if secret {
		u.RawQuery = ""
	}
	return u.String()
}

// From returns a URI as it is meant from a folder on, where it is a path that is not absolute.
func From(folder, uri string) string {
	if Scheme(uri) != "" || filepath.IsAbs(uri) {
		return uri
	}
	return Join(folder, filepath.ToSlash(uri))
}
