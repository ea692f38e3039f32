package locate

import (
	"net/url"
	"strings"
)

// secretParts are what names of query parameters hold that sign a request or give access.
var secretParts = []string{"sig", "token", "secret", "passw", "pwd", "credential", "auth", "key", "policy", "x-amz-", "x-goog-", "x-ms-"}

// Shown returns a location as it may be shown and kept: a URL without its user information, and without its query where that gives access. Other locations
// stay as they are.
func Shown(location string) string {
	if !IsURL(location) {
		return location
	}
	u, err := url.Parse(location)
	if err != nil {
		// What cannot be read cannot be told to be harmless either.
		scheme, rest, _ := strings.Cut(location, "://")
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
	if u.User == nil && !secret && u.Fragment == "" {
		return location
	}
	u.User, u.Fragment, u.RawFragment = nil, "", ""
	if secret {
		u.RawQuery = ""
	}
	return u.String()
}
