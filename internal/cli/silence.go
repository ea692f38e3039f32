package cli

import (
	"context"
	"sync"
	"time"

	"trevak/internal/chronicle"
	"trevak/internal/runsheet"
)

// silence notes when a feed last got something, and tells of one that got nothing for longer than it should.
type silence struct {
	feed *runsheet.Feed
	at   *chronicle.Chronicle

	mutex  sync.Mutex
	last   time.Time
	told   bool
	listed bool
}

// first reports whether it is asked for the first time.
func (s *silence) first() bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	was := s.listed
	s.listed = true
	return !was
}

// heard notes that something was loaded.
func (s *silence) heard() {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.last, s.told = time.Now(), false
}

// run tells of silence until the context ends.
func (s *silence) run(ctx context.Context) {
	s.mutex.Lock()
	s.last = time.Now()
	if s.at.History != nil {
		text, err := s.at.History.Place(ctx, s.at.Sheet.Path, s.feed.Name, chronicle.LastArrival)
		// A clock that was set back does not make a feed silent for longer than it was, nor one that was set on.
		if at, failed := time.Parse(time.RFC3339, text); err == nil && failed == nil && at.Before(s.last) {
			s.last = s.last.Add(-min(time.Since(at), 10*s.feed.Silent))
		}
	}
	s.mutex.Unlock()
	ticker := time.NewTicker(max(s.feed.Silent/20, 10*time.Millisecond))
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		s.mutex.Lock()
		quiet := time.Since(s.last)
		tell := quiet > s.feed.Silent && !s.told
		s.told = s.told || tell
		s.mutex.Unlock()
		if tell {
			text := chronicle.SilenceText(quiet, s.feed)
			s.at.Told(runsheet.Silent, s.feed.Name, text, map[string]any{"seconds": int(quiet.Seconds())})
		}
	}
}
