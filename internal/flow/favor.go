package flow

import (
	"cmp"
	"slices"
	"strings"

	"trevak/internal/columnar"
	"trevak/internal/fault"
)

// Favor is what a choice by trial favors.
type Favor string

// FavorSize takes what is smallest, FavorSpeed what is written and read in the least time. FavorBalance looks at what takes no more than three times
// the least time, and of what is nearly as small as the smallest there takes the quickest.
const (
	FavorSize    Favor = "size"
	FavorSpeed   Favor = "speed"
	FavorBalance Favor = "balance"
)

// ParseFavor reads size, speed or balance.
func ParseFavor(text string) (Favor, error) {
	switch f := Favor(text); f {
	case FavorSize, FavorSpeed, FavorBalance:
		return f, nil
	}
	return "", fault.New(fault.Usage, "--favor %s is not known", text).Try("use size, speed or balance")
}

// Under FavorBalance a choice may take balanceTimes as much time as the quickest, and balancePercent more bytes than the smallest.
const (
	balanceTimes   = 3
	balancePercent = 3
)

// codecsTried are the codecs of trials.
var codecsTried = []columnar.Codec{"none", "snappy", "lz4", "zstd:1", "zstd:3", "zstd:9", "gzip:6", "brotli:5"}

// codecsFor are those of them that a format has, without levels where it has none.
func codecsFor(format columnar.Format) []columnar.Codec {
	var out []columnar.Codec
	for _, codec := range codecsTried {
		if !format.Has(codec) {
			name, _, _ := strings.Cut(string(codec), ":")
			codec = columnar.Codec(name)
		}
		if format.Has(codec) && !slices.Contains(out, codec) {
			out = append(out, codec)
		}
	}
	return out
}

// best returns the trial that is favored.
func (f Favor) best(trials []columnar.Trial) columnar.Trial {
	byTime := func(a, b columnar.Trial) int { return cmp.Compare(a.Seconds(), b.Seconds()) }
	quickest := slices.MinFunc(trials, byTime)
	if f == FavorSpeed {
		return quickest
	}
	bySize := func(a, b columnar.Trial) int { return cmp.Compare(a.Bytes, b.Bytes) }
	if f == FavorSize {
		return slices.MinFunc(trials, bySize)
	}
	candidates := slices.DeleteFunc(slices.Clone(trials), func(t columnar.Trial) bool { return t.Seconds() > balanceTimes*quickest.Seconds() })
	most := slices.MinFunc(candidates, bySize).Bytes * (100 + balancePercent) / 100
	return slices.MinFunc(slices.DeleteFunc(candidates, func(t columnar.Trial) bool { return t.Bytes > most }), byTime)
}
