package prove

import (
	"context"
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"golang.org/x/sync/errgroup"

	"trevak/internal/rowhash"
	"trevak/internal/schema"
)

// bucketBits is how many buckets rows are divided into, as a power of two: fine enough that a row that differs leads to a few hundred
// others of ten million.
const bucketBits = 16

// bucket is the sum of the hashes of some rows, and how many they are.
type bucket struct {
	rows      int64
	high, low uint64
}

func (b *bucket) add(k rowhash.Key) {
	var carry uint64
	b.rows++
	b.low, carry = bits.Add64(b.low, k.Low, 0)
	b.high, _ = bits.Add64(b.high, k.High, carry)
}

// Digest is what a side comes to: how many rows there are, the facts of each column, and sums of hashes by which rows that differ are
// found again. It does not depend on the order of the rows.
type Digest struct {
	Rows    int64
	Objects map[int64]int64 // how many of the rows came of each object, by what the side tells it by
	fields  []schema.Field
	key     []int // of the columns; nil where rows are told by all that they have
	columns []*column
	buckets []bucket
	workers int
	rows    []rowhash.Key // of the batch at hand, and those of its keys
	keys    []rowhash.Key
}

// NewDigest prepares for rows with some columns, told from each other by a key of them or, without any, by all.
func NewDigest(fields []schema.Field, key []int, workers int) *Digest {
	d := &Digest{Objects: map[int64]int64{}, fields: fields, key: key, buckets: make([]bucket, 1<<bucketBits), workers: max(1, workers)}
	for range fields {
		d.columns = append(d.columns, &column{})
	}
	return d
}

// Add takes the rows of a batch, whose first columns are those of the digest.
func (d *Digest) Add(ctx context.Context, b arrow.RecordBatch) error {
	work, _ := errgroup.WithContext(ctx)
	work.SetLimit(d.workers)
	for i := range d.fields {
		work.Go(func() error {
			d.columns[i].add(b.Column(i), seedOf(i))
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	n := int(b.NumRows())
	d.rows = combine(d.rows, d.columns, nil, n)
	keys := d.rows
	if d.key != nil {
		d.keys = combine(d.keys, d.columns, d.key, n)
		keys = d.keys
	}
	for i, k := range keys {
		d.buckets[k.High>>(64-bucketBits)].add(d.rows[i])
	}
	d.Rows += int64(n)
	return ctx.Err()
}

// seedOf tells the hashes of columns from each other.
func seedOf(column int) uint64 { return rowhash.Mix(uint64(column) + 1) }

// combine makes a hash of each row of the hashes of some columns, of all where there is no list.
func combine(into []rowhash.Key, columns []*column, some []int, n int) []rowhash.Key {
	if cap(into) < n {
		into = make([]rowhash.Key, n)
	}
	into = into[:n]
	clear(into)
	take := func(c *column) {
		for i := range into {
			k := &into[i]
			k.High = rowhash.Mix(bits.RotateLeft64(k.High, 27) ^ c.highs[i])
			k.Low = rowhash.Mix(bits.RotateLeft64(k.Low, 31) + c.lows[i])
		}
	}
	if some == nil {
		for _, c := range columns {
			take(c)
		}
		return into
	}
	for _, at := range some {
		take(columns[at])
	}
	return into
}

// merge adds what another digest of the same columns has gathered.
func (d *Digest) merge(o *Digest) {
	d.Rows += o.Rows
	for object, n := range o.Objects {
		d.Objects[object] += n
	}
	for i := range d.buckets {
		var carry uint64
		b, other := &d.buckets[i], &o.buckets[i]
		b.rows += other.rows
		b.low, carry = bits.Add64(b.low, other.low, 0)
		b.high, _ = bits.Add64(b.high, other.high, carry)
	}
	for i, c := range d.columns {
		c.merge(o.columns[i])
	}
}

// Facts are those of a column.
func (d *Digest) Facts(column int) Facts { return d.columns[column].facts(d.fields[column]) }

// Equal reports whether two digests are of the same rows.
func (d *Digest) Equal(o *Digest) bool {
	if d.Rows != o.Rows {
		return false
	}
	for i := range d.buckets {
		if d.buckets[i] != o.buckets[i] {
			return false
		}
	}
	for i, c := range d.columns {
		if c.high != o.columns[i].high || c.low != o.columns[i].low || c.nulls != o.columns[i].nulls {
			return false
		}
	}
	return true
}

// differing are the buckets that differ, and how many rows of both sides are in them.
func (d *Digest) differing(o *Digest) (out []int, rows int64) {
	for i := range d.buckets {
		if d.buckets[i] != o.buckets[i] {
			out = append(out, i)
			rows += d.buckets[i].rows + o.buckets[i].rows
		}
	}
	return out, rows
}

// Pool makes a digest of rows that are handed over one batch after the other, some of which are worked on side by side.
type Pool struct {
	digests []*Digest
	rows    chan Rows
	work    *errgroup.Group
	ctx     context.Context
}

// NewPool prepares for rows as NewDigest does. Its batches have to stay valid. Close ends it.
func NewPool(ctx context.Context, fields []schema.Field, key []int, workers int) *Pool {
	p := &Pool{rows: make(chan Rows, max(1, workers))}
	p.work, p.ctx = errgroup.WithContext(ctx)
	for range max(1, workers) {
		d := NewDigest(fields, key, 1)
		p.digests = append(p.digests, d)
		p.work.Go(func() error {
			for r := range p.rows {
				if err := d.AddRows(p.ctx, r); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return p
}

// Add hands rows over.
func (p *Pool) Add(r Rows) error {
	select {
	case p.rows <- r:
		return nil
	case <-p.ctx.Done():
		return p.ctx.Err()
	}
}

// Close waits until all rows are taken, and returns what they come to.
func (p *Pool) Close() (*Digest, error) {
	close(p.rows)
	if err := p.work.Wait(); err != nil {
		return nil, err
	}
	for _, d := range p.digests[1:] {
		p.digests[0].merge(d)
	}
	return p.digests[0], nil
}
