package ahead_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"trevak/internal/ahead"
)

// TestResultsComeInOrder does pieces that take different times and have different numbers of results.
func TestResultsComeInOrder(t *testing.T) {
	for _, limit := range []int{0, 1, 2, 7, 100} {
		var now, most atomic.Int64
		random := rand.New(rand.NewPCG(1, uint64(limit)))
		counts := make([]int, 60)
		var want []string
		for i := range counts {
			counts[i] = random.IntN(5)
			for k := range counts[i] {
				want = append(want, fmt.Sprintf("%d.%d", i, k))
			}
		}
		var got []string
		err := ahead.Each(t.Context(), len(counts), limit, 2, func(_ context.Context, i int, send func(string) error) error {
			most.Store(max(most.Load(), now.Add(1)))
			defer now.Add(-1)
			for k := range counts[i] {
				time.Sleep(time.Duration(i%3) * 100 * time.Microsecond)
				if err := send(fmt.Sprintf("%d.%d", i, k)); err != nil {
					return err
				}
			}
			return nil
		}, func(i int, result string) error {
			got = append(got, result)
			return nil
		})
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%d at a time: %v, %v, want %v", limit, err, got, want)
		}
		if int(most.Load()) > max(1, limit) {
			t.Errorf("%d at a time: %d were at work", limit, most.Load())
		}
	}
}

// TestFirstErrorInOrder has later pieces fail before earlier ones, and the taking fail: what comes before an error is taken, and
// nothing is at work when it is returned.
func TestFirstErrorInOrder(t *testing.T) {
	early, late, refused := errors.New("early"), errors.New("late"), errors.New("refused")
	for _, test := range []struct {
		refuse int
		want   error
		taken  int
	}{{-1, early, 3}, {1, refused, 1}} {
		var now atomic.Int64
		taken := 0
		err := ahead.Each(t.Context(), 10, 4, 1, func(ctx context.Context, i int, send func(int) error) error {
			now.Add(1)
			defer now.Add(-1)
			switch i {
			case 3:
				time.Sleep(time.Millisecond)
				return early
			case 4:
				return late
			}
			return send(i)
		}, func(i, result int) error {
			if i == test.refuse {
				return refused
			}
			taken++
			return nil
		})
		if !errors.Is(err, test.want) || taken != test.taken || now.Load() != 0 {
			t.Errorf("%v after %d results, %d still at work; want %v after %d", err, taken, now.Load(), test.want, test.taken)
		}
	}
}

func ExampleEach() {
	harbours := []string{"Cairn Bay", "The Narrows"}
	err := ahead.Each(context.Background(), len(harbours), 2, 1, func(_ context.Context, i int, send func(string) error) error {
		return send("looked at " + harbours[i])
	}, func(i int, result string) error {
		fmt.Println(i, result)
		return nil
	})
	fmt.Println(err)
	// Output:
	// 0 looked at Cairn Bay
	// 1 looked at The Narrows
	// <nil>
}
