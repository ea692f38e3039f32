// Package metadata has the headers of calls. None is ever sent.
package metadata

import (
	"context"
	"strings"
)

// MD is a set of headers.
type MD map[string][]string

// New makes headers of one value each.
func New(m map[string]string) MD {
	md := MD{}
	for k, v := range m {
		md.Append(k, v)
	}
	return md
}

// Pairs makes headers of names and values, one after the other.
func Pairs(kv ...string) MD {
	md := MD{}
	for i := 0; i+1 < len(kv); i += 2 {
		md.Append(kv[i], kv[i+1])
	}
	return md
}

// Join puts headers together.
func Join(mds ...MD) MD {
	out := MD{}
	for _, md := range mds {
		for k, v := range md {
			out.Append(k, v...)
		}
	}
	return out
}

// Append adds values to a header.
func (md MD) Append(k string, vals ...string) {
	k = strings.ToLower(k)
	md[k] = append(md[k], vals...)
}

// Get returns the values of a header.
func (md MD) Get(k string) []string { return md[strings.ToLower(k)] }

// Set gives a header its values.
func (md MD) Set(k string, vals ...string) { md[strings.ToLower(k)] = vals }

// Copy copies headers.
func (md MD) Copy() MD { return Join(md) }

// Len is how many headers there are.
func (md MD) Len() int { return len(md) }

// FromIncomingContext finds none, for nothing comes in.
func FromIncomingContext(context.Context) (MD, bool) { return nil, false }

// FromOutgoingContext finds none, for nothing goes out.
func FromOutgoingContext(context.Context) (MD, bool) { return nil, false }

// ValueFromIncomingContext finds none, for nothing comes in.
func ValueFromIncomingContext(context.Context, string) []string { return nil }

// NewOutgoingContext leaves the context as it is, for nothing goes out.
func NewOutgoingContext(ctx context.Context, _ MD) context.Context { return ctx }

// AppendToOutgoingContext leaves the context as it is, for nothing goes out.
func AppendToOutgoingContext(ctx context.Context, _ ...string) context.Context { return ctx }
