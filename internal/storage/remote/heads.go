package remote

import (
	"container/list"
	"sync"

	"trevak/internal/storage"
)

// heads keeps the beginnings of objects that were read last, which of small ones is all of them: an object is looked at more than
// once before it is read.
type heads struct {
	mutex sync.Mutex
	known map[headKey]*list.Element
	order *list.List // the one that was used last comes first
	bytes int
}

type headKey struct {
	uri, tag string
	size     int64
}

type head struct {
	key  headKey
	data []byte
}

// mostHeadBytes bounds all beginnings, headBytes one.
const (
	mostHeadBytes = 24 << 20
	headBytes     = 256 << 10
)

func newHeads() *heads { return &heads{known: map[headKey]*list.Element{}, order: list.New()} }

func keyOf(o storage.Object) headKey { return headKey{o.URI, o.Tag, o.Size} }

// get returns the beginning of an object, nil where it is not known. It is not to be changed.
func (h *heads) get(o storage.Object) []byte {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	e := h.known[keyOf(o)]
	if e == nil {
		return nil
	}
	h.order.MoveToFront(e)
	return e.Value.(head).data
}

// put keeps the beginning of an object, if its store tells one version from another.
func (h *heads) put(o storage.Object, data []byte) {
	if o.Tag == "" || len(data) > headBytes || int64(len(data)) < min(o.Size, headBytes) {
		return
	}
	h.mutex.Lock()
	defer h.mutex.Unlock()
	key := keyOf(o)
	if h.known[key] != nil {
		return
	}
	h.known[key] = h.order.PushFront(head{key, data})
	h.bytes += len(data)
	for h.bytes > mostHeadBytes {
		last := h.order.Back()
		old := h.order.Remove(last).(head)
		delete(h.known, old.key)
		h.bytes -= len(old.data)
	}
}
