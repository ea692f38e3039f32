// Package health answers what others ask a program that runs by itself: whether it lives, whether it is ready, what it measured; and takes
// notice of objects that it is told of.
//
// What comes in are requests over HTTP; what goes out are answers, and the URIs of objects.
package health

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"time"

	"trevak/internal/fault"
	"trevak/internal/gauge"
	"trevak/internal/notice"
)

// Server is what others ask. Ready and Told may be called by several goroutines at once.
type Server struct {
	Gauges *gauge.Set
	// Ready tells why the program is not ready; nil when it is.
	Ready func() error
	// Secret is what senders of notifications know; without one, there are none.
	Secret string
	// Told takes notice of an object, and reports whether it belongs here. Refused is told of requests that are not heard.
	Told    func(ctx context.Context, uri string) bool
	Refused func(from, why string)
}

// Paths that are answered.
const (
	LivePath    = "/healthz"
	ReadyPath   = "/readyz"
	MetricsPath = "/metrics"
	EventsPath  = "/events"
)

// Listen begins to answer at an address like 127.0.0.1:0, until the context ends, and returns the address.
func (s *Server) Listen(ctx context.Context, address string) (string, error) {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil {
		return "", fault.Wrap(fault.Usage, err, "nothing can be answered at %s", address)
	}
	server := &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: 30 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 1 << 16}
	go func() {
		// It ends when it is closed.
		_ = server.Serve(listener)
	}()
	context.AfterFunc(ctx, func() { server.Close() })
	return listener.Addr().String(), nil
}

func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+LivePath, func(w http.ResponseWriter, _ *http.Request) { say(w, http.StatusOK, "alive") })
	mux.HandleFunc("GET "+ReadyPath, func(w http.ResponseWriter, _ *http.Request) {
		if err := s.Ready(); err != nil {
			say(w, http.StatusServiceUnavailable, err.Error())
			return
		}
		say(w, http.StatusOK, "ready")
	})
	mux.HandleFunc("GET "+MetricsPath, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		s.Gauges.Write(w)
	})
	mux.HandleFunc(EventsPath, s.events)
	return mux
}

func say(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	// Of what cannot be written there is nobody to tell.
	_, _ = io.WriteString(w, text+"\n")
}

// events takes notifications in: CloudEvents, with the shared secret. OPTIONS answers the handshake of senders (CloudEvents, HTTP webhook
// specification, section 4).
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	refuse := func(status int, why string) {
		s.Refused(r.RemoteAddr, why)
		say(w, status, why)
	}
	switch {
	case r.Method == http.MethodOptions:
		if origin := r.Header.Get("WebHook-Request-Origin"); origin != "" {
			w.Header().Set("WebHook-Allowed-Origin", origin)
			w.Header().Set("WebHook-Allowed-Rate", "*")
		}
		w.Header().Set("Allow", "POST, OPTIONS")
		return
	case r.Method != http.MethodPost:
		w.Header().Set("Allow", "POST, OPTIONS")
		say(w, http.StatusMethodNotAllowed, "notifications are posted")
		return
	case s.Secret == "":
		refuse(http.StatusForbidden, "no notification is heard here, since no secret is shared")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, notice.MostBytes))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		refuse(http.StatusRequestEntityTooLarge, "the request is too large")
		return
	}
	if err != nil {
		return
	}
	if err := notice.Genuine(r.Header, s.Secret, time.Now(), body); err != nil {
		refuse(http.StatusUnauthorized, "the request is not from somebody who knows the secret: "+err.Error())
		return
	}
	list, err := notice.DecodeRequest(r.Header, body)
	if err != nil {
		refuse(http.StatusBadRequest, err.Error())
		return
	}
	Take(r.Context(), list, s.Told, func(why string) { s.Refused(r.RemoteAddr, why) })
	w.WriteHeader(http.StatusNoContent)
}

// Take takes notice of the objects of events.
func Take(ctx context.Context, list []notice.Event, told func(ctx context.Context, uri string) bool, refused func(why string)) {
	for _, e := range list {
		uris := e.Objects()
		if len(uris) == 0 {
			refused("the event " + e.ID + " names no object")
		}
		for _, uri := range uris {
			if !told(ctx, uri) {
				refused("the event " + e.ID + " names an object that is in no source")
			}
		}
	}
}
