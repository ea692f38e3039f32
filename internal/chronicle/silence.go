package chronicle

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"trevak/internal/conduct"
	"trevak/internal/runsheet"
)

// What the run history keeps of a feed: when it last got something, and of which such moment it was told that nothing came since.
const (
	LastArrival = "last_arrival"
	silenceTold = "silence_told"
)

// silence tells of a feed that got nothing for longer than it should, once until it gets something.
func (c *Chronicle) silence(r *conduct.FeedResult) {
	f, err := c.Sheet.FeedNamed(r.Feed)
	if err != nil || f.Silent == 0 || c.History == nil {
		return
	}
	ctx, path := context.WithoutCancel(c.ctx), c.Sheet.Path
	now := time.Now().UTC()
	switch r.Outcome {
	case conduct.Done:
		err = c.History.SetPlace(ctx, path, f.Name, LastArrival, now.Format(time.RFC3339))
	case conduct.Known, conduct.Skipped:
		var last, told string
		if last, err = c.History.Place(ctx, path, f.Name, LastArrival); err == nil && last == "" {
			// From here on it is known.
			err = c.History.SetPlace(ctx, path, f.Name, LastArrival, now.Format(time.RFC3339))
			break
		}
		at, failed := time.Parse(time.RFC3339, last)
		if failed != nil || now.Sub(at) <= f.Silent || err != nil {
			break
		}
		if told, err = c.History.Place(ctx, path, f.Name, silenceTold); err != nil || told == last {
			break
		}
		text := SilenceText(now.Sub(at), f)
		c.note(slog.LevelWarn, f.Name, text)
		c.tell(runsheet.Silent, f.Name, map[string]any{"message": text, "seconds": int(now.Sub(at).Seconds())})
		err = c.History.SetPlace(ctx, path, f.Name, silenceTold, last)
	}
	if err != nil {
		c.unkept(err)
	}
}

// SilenceText says that a feed got nothing for so long.
func SilenceText(quiet time.Duration, f *runsheet.Feed) string {
	return fmt.Sprintf("nothing arrived for %s, and something should at least every %s", quiet.Round(time.Second), f.Silent)
}
