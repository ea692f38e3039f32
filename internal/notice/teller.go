package notice

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
)

// Receiver is somebody who is told of events.
type Receiver struct {
	URL    string
	Secret string
	// Of are the kinds of events that are wanted.
	Of []string
}

// Teller tells receivers of events, in order, without anybody waiting for it. What cannot be told is tried again, and given up at last.
type Teller struct {
	source string
	lanes  []*lane
	lost   func(e Event, to string, err error)
	ended  sync.WaitGroup
}

// lane is what is on the way to one receiver.
type lane struct {
	Receiver
	queue chan Event
}

const (
	// mostQueued bounds how many events wait for a receiver.
	mostQueued = 1000
	// tellTime is how long one try may take, tellTries how many there are, tellWait how long the first wait is; each is twice the last.
	tellTime  = 10 * time.Second
	tellTries = 6
	tellWait  = 500 * time.Millisecond
)

// NewTeller begins to tell. source names who tells, and lost is called for what could not be told.
func NewTeller(ctx context.Context, source string, to []Receiver, lost func(e Event, to string, err error)) *Teller {
	t := &Teller{source: source, lost: lost}
	for _, r := range to {
		l := &lane{Receiver: r, queue: make(chan Event, mostQueued)}
		t.lanes = append(t.lanes, l)
		t.ended.Go(func() { t.serve(ctx, l) })
	}
	return t
}

// Tell has an event of a kind told to those who want it, and returns at once.
func (t *Teller) Tell(kind, subject string, at time.Time, data []byte) {
	e := Event{ID: uuid.NewString(), Source: t.source, Type: "trevak." + kind, Subject: subject, Time: at, Data: data}
	for _, l := range t.lanes {
		if !slices.Contains(l.Of, kind) {
			continue
		}
		select {
		case l.queue <- e:
		default:
			t.lost(e, l.URL, fmt.Errorf("%d events wait for it already", mostQueued))
		}
	}
}

// Close has what waits told, as far as there is time for it.
func (t *Teller) Close(ctx context.Context) {
	for _, l := range t.lanes {
		close(l.queue)
	}
	done := make(chan struct{})
	go func() {
		t.ended.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-ctx.Done():
		for _, l := range t.lanes {
			for e := range l.queue {
				t.lost(e, l.URL, ctx.Err())
			}
		}
	}
}

func (t *Teller) serve(ctx context.Context, l *lane) {
	client := &http.Client{Timeout: tellTime}
	for e := range l.queue {
		var err error
		wait := tellWait
		for try := 1; ; try++ {
			if err = l.send(ctx, client, e); err == nil || try == tellTries || ctx.Err() != nil {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(wait):
			}
			wait *= 2
		}
		if err != nil {
			t.lost(e, l.URL, err)
		}
	}
}

// send sends one event.
func (l *lane) send(ctx context.Context, client *http.Client, e Event) error {
	body, err := Encode(e)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, l.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", OneEvent+"; charset=utf-8")
	sign(request.Header, l.Secret, e.ID, time.Now(), body)
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	// What is said does not matter, and the connection is used again.
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16))
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}
