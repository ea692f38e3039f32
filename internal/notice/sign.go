package notice

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Headers of signed requests (Standard Webhooks, "Webhook headers").
const (
	headerID        = "webhook-id"
	headerTimestamp = "webhook-timestamp"
	headerSignature = "webhook-signature"
)

// secretPrefix marks a secret that is written in base64.
const secretPrefix = "whsec_"

// stale is how far the time of a signature may be from now.
const stale = 5 * time.Minute

func keyOf(secret string) []byte {
	if coded, ok := strings.CutPrefix(secret, secretPrefix); ok {
		if key, err := base64.StdEncoding.DecodeString(coded); err == nil {
			return key
		}
	}
	return []byte(secret)
}

func signature(secret, id, at string, body []byte) string {
	h := hmac.New(sha256.New, keyOf(secret))
	// A hash takes everything.
	_, _ = h.Write([]byte(id + "." + at + "."))
	_, _ = h.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// sign signs a request.
func sign(h http.Header, secret, id string, at time.Time, body []byte) {
	stamp := strconv.FormatInt(at.Unix(), 10)
	h.Set(headerID, id)
	h.Set(headerTimestamp, stamp)
	if secret != "" {
		h.Set(headerSignature, signature(secret, id, stamp, body))
	}
}

// Genuine reports whether a request comes from somebody who knows the secret: it is signed with it, or has it as its bearer token.
func Genuine(h http.Header, secret string, now time.Time, body []byte) error {
	if token, ok := strings.CutPrefix(h.Get("Authorization"), "Bearer "); ok {
		if subtle.ConstantTimeCompare([]byte(token), []byte(secret)) == 1 {
			return nil
		}
		return errors.New("the token is another")
	}
	given := h.Get(headerSignature)
	if given == "" {
		return errors.New("it is neither signed nor has it a token")
	}
	stamp := h.Get(headerTimestamp)
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil {
		return errors.New("its time cannot be read")
	}
	if age := now.Sub(time.Unix(seconds, 0)); age > stale || age < -stale {
		return errors.New("it was signed more than 5 minutes from now")
	}
	want := signature(secret, h.Get(headerID), stamp, body)
	for one := range strings.FieldsSeq(given) {
		if hmac.Equal([]byte(one), []byte(want)) {
			return nil
		}
	}
	return errors.New("its signature is that of another secret or another text")
}
