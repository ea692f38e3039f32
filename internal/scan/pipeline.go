package scan

import (
	"context"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"trevak/internal/ahead"
	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/run"
	"trevak/internal/source"
)

// pass is one reading of a source from beginning to end.
type pass struct {
	source *source.Source
	budget run.Budget
	stage  run.Stage
	// sample is set for a pass over parts of the source.
	sample *Sample
	// hashes receives the hash of each object, where it is not nil.
	hashes []string
	// splits are the parts that are read, nil for all.
	splits []Split
}

// job is a block on its way, with its number over the whole pass.
type job struct {
	number int
	block  parse.Block
	read   int64 // stored bytes of the source read when it was cut
}

// result is what a worker made of a block.
type result[T any] struct {
	job
	value T
}

// process reads the source's blocks, lets workers turn each into a T side by side, and hands the results to take in the order
// of the source. newWorker is called once for each worker. No more than a few blocks and results are held at a time: a
// block's slot is free again when its result has been taken.
func process[T any](ctx context.Context, p pass, newWorker func() func(*parse.Block) (T, error), take func(parse.Block, T) error) error {
	group, ctx := errgroup.WithContext(ctx)
	workers := max(1, p.budget.Workers)
	slots := make(chan struct{}, p.slots())
	jobs, results := make(chan job), make(chan result[T])
	spare := make(spareBuffers, cap(slots)+p.waiting()*min(p.readers(), len(p.source.Inputs)))

	group.Go(func() error {
		defer close(jobs)
		return p.read(ctx, spare, func(j job) error {
			select {
			case slots <- struct{}{}:
			case <-ctx.Done():
				return ctx.Err()
			}
			select {
			case jobs <- j:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	})

	var running sync.WaitGroup
	for range workers {
		running.Add(1)
		group.Go(func() error {
			defer running.Done()
			work := newWorker()
			for j := range jobs {
				value, err := work(&j.block)
				if err != nil {
					return err
				}
				spare.put(j.block.Data)
				select {
				case results <- result[T]{j, value}:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			return nil
		})
	}
	group.Go(func() error {
		running.Wait()
		close(results)
		return nil
	})
	group.Go(func() error { return collect(ctx, p, results, slots, take) })
	return group.Wait()
}

// collect restores the order of results.
func collect[T any](ctx context.Context, p pass, results <-chan result[T], slots <-chan struct{}, take func(parse.Block, T) error) error {
	early := map[int]result[T]{}
	next := 0
	for r := range results {
		early[r.number] = r
		for {
			r, ok := early[next]
			if !ok {
				break
			}
			delete(early, next)
			next++
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := take(r.block, r.value); err != nil {
				return err
			}
			<-slots
			p.tell(r.block.Object, r.read)
		}
	}
	return nil
}

// tell reports progress.
func (p pass) tell(object int, read int64) {
	p.budget.Tell(run.Event{Stage: p.stage, Objects: len(p.source.Inputs), Object: object + 1, Location: p.source.Inputs[object].Location,
		BytesRead: read, BytesTotal: p.source.Bytes})
}

// waitingBlocks is how many blocks of each object that is read ahead wait to be worked on.
const waitingBlocks = 4

// A block of very many columns has so many bytes for each of them, as far as mostBlock, so that what is done for each column of a
// block is done for enough rows; fewer such blocks wait.
const (
	manyColumns = 4000
	columnBytes = 256
	mostBlock   = 8 << 20
)

// blockBytes is the usual size of a block of an object.
func blockBytes(usual int, in source.Input) int {
	if n := len(in.Rules.Names); n > manyColumns {
		return max(usual, min(n*columnBytes, mostBlock))
	}
	return usual
}

// wide reports whether an object has very many columns.
func (p pass) wide() bool {
	return slices.ContainsFunc(p.source.Inputs, func(in source.Input) bool { return len(in.Rules.Names) > manyColumns })
}

// waiting is how many blocks of each object wait, slots how many are worked on or wait for their turn when they were.
func (p pass) waiting() int {
	if p.wide() {
		return 1
	}
	return waitingBlocks
}

func (p pass) slots() int {
	workers := max(1, p.budget.Workers)
	if p.wide() {
		return workers + 1
	}
	return 2*workers + 1
}

// cut is a block of an object, and the stored bytes of the object that were read when it was cut.
type cut struct {
	block parse.Block
	read  int64
}

// readers is how many objects are read at a time: all processors can unpack, and one more is opened meanwhile. Of a store that is far
// away it is as many as it answers at a time, as long as they are small.
func (p pass) readers() int {
	readers := max(1, p.budget.Workers) + 1
	if n := len(p.source.Inputs); n > readers {
		average := max(1, p.source.Bytes/int64(n))
		readers = max(readers, min(p.source.Inputs[0].InFlight(), int(farAhead/average)))
	}
	return readers
}

// farAhead is how many bytes of objects that are far away are read ahead, in all.
const farAhead = 32 << 20

// read cuts the objects into blocks, several objects at a time, and hands the blocks on in the order of the objects.
func (p pass) read(ctx context.Context, spare spareBuffers, emit func(job) error) error {
	if p.sample != nil {
		return p.readSample(ctx, spare, emit)
	}
	if p.splits != nil {
		return p.readSplits(ctx, spare, emit)
	}
	inputs := p.source.Inputs
	number, last := 0, 0
	var before int64
	return ahead.Each(ctx, len(inputs), p.readers(), p.waiting(), func(ctx context.Context, i int, send func(cut) error) error {
		return source.Located(p.cut(ctx, i, spare, send), inputs[i].Location)
	}, func(i int, c cut) error {
		for ; last < i; last++ {
			before += inputs[last].Size
		}
		number++
		return emit(job{number - 1, c.block, before + c.read})
	})
}

// cut cuts one object into blocks.
func (p pass) cut(ctx context.Context, i int, spare spareBuffers, send func(cut) error) error {
	in := p.source.Inputs[i]
	limits := in.Limits.Parse()
	limits.BlockBytes = blockBytes(limits.BlockBytes, in)
	in.Hashed = p.hashes != nil
	stream, text, err := in.Text(ctx, &limits)
	if err != nil {
		return err
	}
	defer stream.Close()
	err = parse.Blocks(ctx, text, in.Cutter(), limits, spare.get, func(b parse.Block) error {
		b.Object = i
		return send(cut{b, stream.Stored()})
	})
	if err == nil && p.hashes != nil {
		p.hashes[i], err = stream.Hash()
	}
	if err == nil {
		err = stream.Unchanged()
	}
	return err
}

// spareBuffers are buffers of blocks that were worked on, for blocks to come.
type spareBuffers chan []byte

// get returns an empty buffer with room for n bytes.
func (s spareBuffers) get(n int) ([]byte, error) {
	select {
	case b := <-s:
		if cap(b) >= n {
			return b[:0], nil
		}
	default:
	}
	return make([]byte, 0, n), nil
}

// put keeps a buffer, unless there are enough of them or it is unusually large.
func (s spareBuffers) put(b []byte) {
	if cap(b) > mostBlock {
		return
	}
	select {
	case s <- b:
	default:
	}
}

// errEnough ends the reading of an object of which no more is wanted.
var errEnough = fault.New(fault.Input, "enough was read")
