package runlog

import (
	"context"
	"time"
)

// Waiting is an object that could not be loaded so far.
type Waiting struct {
	Object, Version string
	Tries           int
	Reason          string
	Since           time.Time
	// Aside says that it is not tried any more.
	Aside bool
}

// Waiting lists the objects of a feed that could not be loaded so far; with an empty feed those of all feeds.
func (l *Log) Waiting(ctx context.Context, sheet, feed string) (out []Waiting, err error) {
	err = l.each(ctx, `SELECT object, version, tries, reason, since, aside FROM trevak_waiting WHERE sheet = $1 AND ($2 = '' OR feed = $2)
		ORDER BY object`,
		[]any{sheet, feed}, func(scan func(...any) error) error {
			var w Waiting
			var since string
			var aside int
			err := scan(&w.Object, &w.Version, &w.Tries, &w.Reason, &since, &aside)
			w.Since, w.Aside = parsed(since), aside == 1
			out = append(out, w)
			return err
		})
	return out, err
}

// Wait notes that an object could not be loaded.
func (l *Log) Wait(ctx context.Context, sheet, feed string, w Waiting) error {
	aside := 0
	if w.Aside {
		aside = 1
	}
	return l.exec(ctx, `INSERT INTO trevak_waiting (sheet, feed, object, version, tries, reason, since, aside) VALUES ($1, $2, $3, $4, $5,
		$6, $7, $8)
		ON CONFLICT (sheet, feed, object) DO UPDATE SET version = excluded.version, tries = excluded.tries, reason = excluded.reason,
		aside = excluded.aside`, sheet, feed, w.Object, w.Version, w.Tries, w.Reason, instant(w.Since), aside)
}

// Arrived notes that an object waits no more.
func (l *Log) Arrived(ctx context.Context, sheet, feed, object string) error {
	return l.exec(ctx, `DELETE FROM trevak_waiting WHERE sheet = $1 AND feed = $2 AND object = $3`, sheet, feed, object)
}

// Place and SetPlace keep a text for a feed between runs, like when something was last seen; it is empty where there is none.
func (l *Log) Place(ctx context.Context, sheet, feed, what string) (place string, err error) {
	err = l.each(ctx, `SELECT place FROM trevak_positions WHERE sheet = $1 AND feed = $2 AND what = $3`, []any{sheet, feed, what},
		func(scan func(...any) error) error { return scan(&place) })
	return place, err
}

// SetPlace is described with Place.
func (l *Log) SetPlace(ctx context.Context, sheet, feed, what, place string) error {
	return l.exec(ctx, `INSERT INTO trevak_positions (sheet, feed, what, place) VALUES ($1, $2, $3, $4)
		ON CONFLICT (sheet, feed, what) DO UPDATE SET place = excluded.place`, sheet, feed, what, place)
}
