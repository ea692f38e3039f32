// Package notice is how programs tell each other of events: CloudEvents (version 1.0, JSON format and HTTP binding), signed as the
// Standard
// Webhooks specification has it.
//
// What comes in are events to be told, and what others send; what goes out are requests, and the events and objects that others tell of.
package notice

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Event is a CloudEvent.
type Event struct {
	ID, Source, Type, Subject string
	Time                      time.Time
	// Data is JSON; it may be empty.
	Data json.RawMessage
}

// Media types of the two forms of events (CloudEvents, JSON event format, sections 3 and 4).
const (
	OneEvent   = "application/cloudevents+json"
	ManyEvents = "application/cloudevents-batch+json"
)

// mostEvents bounds how many events one request may have, MostBytes how many bytes.
const (
	mostEvents = 10_000
	MostBytes  = 8 << 20
)

// wire is an event as it is written.
type wire struct {
	SpecVersion     string          `json:"specversion"`
	ID              string          `json:"id"`
	Source          string          `json:"source"`
	Type            string          `json:"type"`
	Subject         string          `json:"subject,omitempty"`
	Time            string          `json:"time,omitempty"`
	DataContentType string          `json:"datacontenttype,omitempty"`
	Data            json.RawMessage `json:"data,omitempty"`
}

// Encode writes an event in structured mode.
func Encode(e Event) ([]byte, error) {
	return json.Marshal(wire{SpecVersion: "1.0", ID: e.ID, Source: e.Source, Type: e.Type, Subject: e.Subject,
		Time: e.Time.UTC().Format(time.RFC3339Nano), DataContentType: "application/json", Data: e.Data})
}

// Decode reads events in structured or batched mode, by their media type; without one, by how the text begins.
func Decode(mediaType string, text []byte) ([]Event, error) {
	kind, _, err := mime.ParseMediaType(mediaType)
	if mediaType != "" && err != nil {
		return nil, fmt.Errorf("the media type %q cannot be read", mediaType)
	}
	if text = bytes.TrimSpace(text); len(text) == 0 {
		return nil, errors.New("there is no event")
	}
	var list []wire
	switch {
	case kind == ManyEvents, kind != OneEvent && text[0] == '[':
		if err := json.Unmarshal(text, &list); err != nil {
			return nil, fmt.Errorf("this is no batch of events: %w", err)
		}
	case kind == OneEvent, kind == "", kind == "application/json":
		list = make([]wire, 1)
		if err := json.Unmarshal(text, &list[0]); err != nil {
			return nil, fmt.Errorf("this is no event: %w", err)
		}
	default:
		return nil, fmt.Errorf("events are %s or %s, not %s", OneEvent, ManyEvents, kind)
	}
	if len(list) > mostEvents {
		return nil, fmt.Errorf("%d events in one request are more than %d", len(list), mostEvents)
	}
	out := make([]Event, len(list))
	for i, w := range list {
		if w.SpecVersion != "1.0" || w.ID == "" || w.Source == "" || w.Type == "" {
			return nil, fmt.Errorf("event %d lacks one of specversion 1.0, id, source and type, which every CloudEvent has", i+1)
		}
		out[i] = Event{ID: w.ID, Source: w.Source, Type: w.Type, Subject: w.Subject, Data: w.Data}
		if w.Time != "" {
			if out[i].Time, err = time.Parse(time.RFC3339Nano, w.Time); err != nil {
				return nil, fmt.Errorf("event %d has the time %q, which is none of RFC 3339", i+1, w.Time)
			}
		}
	}
	return out, nil
}

// DecodeRequest reads the events of a request, which may be in binary mode: then its headers hold what is said of the one event.
func DecodeRequest(h http.Header, text []byte) ([]Event, error) {
	if h.Get("ce-specversion") == "" {
		return Decode(h.Get("Content-Type"), text)
	}
	e := Event{ID: h.Get("ce-id"), Source: h.Get("ce-source"), Type: h.Get("ce-type"), Subject: h.Get("ce-subject"), Data: text}
	if h.Get("ce-specversion") != "1.0" || e.ID == "" || e.Source == "" || e.Type == "" {
		return nil, errors.New("the headers lack one of ce-specversion 1.0, ce-id, ce-source and ce-type")
	}
	if len(text) > 0 && !json.Valid(text) {
		return nil, errors.New("the data of the event is no JSON")
	}
	return []Event{e}, nil
}

// Objects are the URIs of the objects that an event tells of: those that its data names by uri, url, location or path, by bucket and name
// or key, or else its subject.
func (e Event) Objects() []string {
	var d struct {
		URI, URL, Location, Path, Bucket, Name, Key string
		Objects                                     []string
	}
	// Data of another form names nothing.
	if len(e.Data) > 0 {
		_ = json.Unmarshal(e.Data, &d)
	}
	out := d.Objects
	for _, uri := range []string{d.URI, d.URL, d.Location, d.Path} {
		if uri != "" {
			return append(out, uri)
		}
	}
	if name := d.Name + d.Key; d.Bucket != "" && name != "" {
		scheme := "s3"
		if strings.HasPrefix(e.Type, "google.") {
			scheme = "gs"
		}
		return append(out, scheme+"://"+d.Bucket+"/"+strings.TrimPrefix(name, "/"))
	}
	if len(out) == 0 && e.Subject != "" {
		if u, err := url.Parse(e.Subject); err == nil && u.Scheme == "file" {
			return []string{u.Path}
		}
		return []string{e.Subject}
	}
	return out
}
