package weigh

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"trevak/internal/columnar"
)

func TestFavor(t *testing.T) {
	trials := []columnar.Trial{{Codec: "none", Bytes: 100, WriteSeconds: 1, ReadSeconds: 1},
		{Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}, {Codec: "brotli:5", Bytes: 30, WriteSeconds: 9, ReadSeconds: 4}}
	alike := []columnar.Trial{{Codec: "snappy", Bytes: 41, WriteSeconds: 2.9, ReadSeconds: 1},
		{Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}, {Codec: "gzip:6", Bytes: 39, WriteSeconds: 3, ReadSeconds: 1}}
	slim := []columnar.Trial{{Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1},
		{Codec: "zstd:9", Bytes: 30, WriteSeconds: 7, ReadSeconds: 1}}
	quick := []columnar.Trial{{Codec: "lz4", Bytes: 41, WriteSeconds: 1, ReadSeconds: 1},
		{Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}}
	for _, test := range []struct {
		favor  Favor
		trials []columnar.Trial
		steady bool
		codec  columnar.Codec
		why    string
	}{
		{FavorSize, trials, true, "brotli:5", "which makes it 25% smaller than zstd:3"},
		{FavorSpeed, trials, true, "none", "which takes 0.5 times the time of zstd:3 and is 150% larger than zstd:3"},
		{FavorSpeed, trials, false, "zstd:3", "the times differ too much"},
		{FavorBalance, trials, true, "zstd:3", "no other makes it 10% smaller in up to 2 times its time"},
		{FavorSize, alike, true, "zstd:3", "no other makes it 5% smaller"},
		{FavorSpeed, alike, true, "zstd:3", "no other takes less time"},
		{FavorBalance, alike, true, "zstd:3", "no other makes it 10% smaller"},
		{FavorBalance, slim, false, "zstd:9", "which makes it 25% smaller than zstd:3, in 2.0 times the time of zstd:3"},
		{FavorBalance, quick, true, "lz4", "which takes 0.5 times the time of zstd:3 and is as small"},
		{FavorBalance, quick, false, "zstd:3", "the usual one"},
	} {
		if got, why := test.favor.choose(test.trials, test.steady); got.Codec != test.codec || !strings.Contains(why, test.why) {
			t.Errorf("%s, steady %v: %s, %s; want %s, %s", test.favor, test.steady, got.Codec, why, test.codec, test.why)
		}
	}
	if _, err := ParseFavor("luck"); err == nil {
		t.Error("luck is taken")
	}
}

// Whatever the trials show: the usual codec is given up for a gain alone, and balance takes nothing that is far slower.
func TestFavorHoldsItsWord(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	for range 500 {
		trials := []columnar.Trial{{Codec: "zstd:3", Bytes: 1 + random.Int64N(1000), WriteSeconds: random.Float64(),
			ReadSeconds: random.Float64()}}
		for i := range random.IntN(9) {
			trials = append(trials, columnar.Trial{Codec: columnar.Codec(fmt.Sprint("c", i)), Bytes: 1 + random.Int64N(1000),
				WriteSeconds: random.Float64(), ReadSeconds: random.Float64()})
		}
		u := trials[0]
		size, _ := FavorSize.choose(trials, true)
		speed, _ := FavorSpeed.choose(trials, true)
		balance, _ := FavorBalance.choose(trials, true)
		unsure, _ := FavorSpeed.choose(trials, false)
		switch {
		case size.Codec != u.Codec && !smaller(size, u, equalPercent), balance.Codec != u.Codec && !smaller(balance, u, worthPercent) &&
			balance.Seconds() >= u.Seconds():
			t.Fatalf("nothing is gained by %+v or %+v over %+v", size, balance, u)
		case speed.Seconds() > u.Seconds(), balance.Seconds() > balanceTimes*u.Seconds(), unsure.Codec != u.Codec:
			t.Fatalf("%+v, %+v, %+v beside %+v", speed, balance, unsure, u)
		}
		for _, other := range trials {
			if smaller(other, size, equalPercent) || smaller(other, balance, worthPercent) &&
				other.Seconds() <= balanceTimes*u.Seconds() {
				t.Fatalf("%+v is smaller than %+v and %+v", other, size, balance)
			}
		}
	}
}
