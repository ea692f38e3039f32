package remote

import "sync"

// Pieces that are read one after the other, as the pages of a column are, are fetched together, in windows that grow while that goes
// on, and the next window while the one before is read. Pieces that nothing follows are fetched by themselves, so that who looks for
// little does not get much.
const (
	largestWindow = 1 << 20
	smallWindow   = 64 << 10
	windowBytes   = 32 << 20 // of all windows of a file
	mostStreams   = 1024
)

// streams are the places in a file at which is read.
type streams struct {
	mutex sync.Mutex
	list  []*stream // the one that was used last comes last
}

// stream is a place at which is read on and on.
type stream struct {
	mutex sync.Mutex
	from  int64  // where data begins
	data  []byte // the window
	next  chan fetched
	size  int64 // of the next window; 0 while nothing was read
}

func (s *stream) end() int64 { return s.from + int64(len(s.data)) }

// at returns the stream in whose window a piece begins, or right behind it; where there is none, a fresh one. how says how large its
// windows may be.
func (s *streams) at(offset int64) (found *stream, largest int64) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for i := len(s.list) - 1; i >= 0; i-- {
		if c := s.list[i]; c.holds(offset) {
			found = c
			s.list = append(append(s.list[:i:i], s.list[i+1:]...), c)
			break
		}
	}
	if found == nil {
		found = &stream{from: offset}
		if len(s.list) == mostStreams {
			s.list = s.list[1:]
		}
		s.list = append(s.list, found)
	}
	return found, max(smallWindow, min(largestWindow, windowBytes/int64(2*len(s.list))))
}

// holds reports whether a piece begins in the window, or right behind it. A stream at which somebody reads is not waited for: it is
// another's.
func (s *stream) holds(offset int64) bool {
	if !s.mutex.TryLock() {
		return false
	}
	defer s.mutex.Unlock()
	return s.size > 0 && offset >= s.from && offset <= s.end()
}

// read copies a piece that begins in the window, or right behind it; fetch gets bytes of the file, which ends at an offset.
func (s *stream) read(b []byte, offset, largest, end int64, fetch func(from, size int64) ([]byte, error)) error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.size == 0 {
		// Nothing is known yet of what follows.
		data, err := fetch(offset, int64(len(b)))
		if err != nil {
			return err
		}
		copy(b, data)
		s.from, s.data, s.size = offset+int64(len(b)), nil, int64(len(b))
		return nil
	}
	for copied := 0; ; {
		if at := offset + int64(copied) - s.from; at < int64(len(s.data)) {
			copied += copy(b[copied:], s.data[at:])
		}
		if copied == len(b) {
			break
		}
		if err := s.advance(int64(len(b)-copied), largest, end, fetch); err != nil {
			return err
		}
	}
	if s.next == nil && s.end() < end && offset+int64(len(b))-s.from > int64(len(s.data)/2) {
		from, size := s.end(), min(max(s.size, smallWindow), end-s.end())
		to := make(chan fetched, 1)
		go func() {
			data, err := fetch(from, size)
			to <- fetched{data, err}
		}()
		s.next = to
	}
	return nil
}

// advance goes on to the next window, which has so many bytes at least.
func (s *stream) advance(least, largest, end int64, fetch func(from, size int64) ([]byte, error)) error {
	if s.next != nil {
		got := <-s.next
		if s.next = nil; got.err != nil {
			return got.err
		}
		s.from, s.data, s.size = s.end(), got.data, min(2*int64(len(got.data)), largest)
		return nil
	}
	size := min(max(least, smallWindow, min(2*s.size, largest)), end-s.end())
	data, err := fetch(s.end(), size)
	if err != nil {
		return err
	}
	s.from, s.data, s.size = s.end(), data, size
	return nil
}
