package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// What is stated wrongly is refused before anything is read or written, with the flag, what is wrong about it, and what would be right.
func TestNonsenseIsRefused(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "n.ndjson": `{"id":1,"l":[1],"o":{"a":1}}` + "\n", "empty.txt": "\n\n"})
	must(t, []string{"load", "r.csv", "--into", "ops.r"})
	before := tree(t)
	convert := func(more ...string) []string {
		return append([]string{"convert", "r.csv", "--to", "o.parquet"}, more...)
	}
	for _, tt := range []struct {
		args []string
		want string
	}{
		{[]string{"convert", "r.csv"}, "--to is missing; name a file ending in .parquet"},
		{[]string{"load", "r.csv"}, "--into is missing; name the table, like --into ops.readings"},
		{[]string{"load", "r.csv", "--into", "readings"}, "ops.readings"},
		{[]string{"load", "r.csv", "--into", "ops.r", "--drift", "wander"}, "use grow, hold or stop"},
		{[]string{"load", "r.csv", "--into", "ops.r", "--split", "l"}, "write it like --split readings=ops.readings"},
		{convert("--format", "parchment"), "--format parchment is not known; use parquet"},
		{convert("--favor", "luck"), "use size, speed or balance"},
		{convert("--favor", "size"), "--favor is for --codec auto"},
		{convert("--codec", "zip"), "is not a codec"},
		{convert("--codec", "zstd:99"), "it has 1 to 22"},
		{convert("--codec", "snappy:1"), "has no levels"},
		{convert("--codec", "zstd,deph=none"), `names a column "deph"`},
		{convert("--bloom", "nope"), `--bloom names a column "nope"`},
		{convert("--page-version", "3"), "--page-version 3"},
		{convert("--row-group", "-5"), "write a number of rows or a size"},
		{convert("--row-group", "many"), "write a number with a unit"},
		{convert("--file-size", "12"), "--file-size has no effect on a single file"},
		{[]string{"convert", "r.csv", "--to", "o/", "--file-size", "12"}, "write a number with a unit"},
		{convert("--sort", "nope"), `"nope"`},
		{convert("--sort", "note sideways"), "sideways"},
		{convert("--partition", "day(observed_at)"), "a single file has no partitions; name a folder: --to o/"},
		{[]string{"convert", "r.csv", "--to", "d/", "--partition", "century(observed_at)"}, "century"},
		{[]string{"convert", "r.csv", "--to", "d/", "--partition", "day(note)"}, "note"},
		{convert("--partition-value", "batch"), "write it like --partition-value batch=2031-05"},
		{convert("--tolerate", "lots"), "--tolerate"},
		{convert("--max-record", "0"), "count from 1 on"},
		{convert("--encoding", "morse"), "morse"},
		{convert("--delimiter", "a|b", "--quote", "|"), "holds the quote; state another --quote"},
		{convert("--quote", "ab"), "--quote"},
		{convert("--comment", "ab"), "--comment"},
		{convert("--skip-rows", "-1"), "count from 0 on"},
		{convert("--header", "--no-header"), "contradict each other; keep one of them"},
		{convert("--escape", "slash"), "use double or backslash"},
		{convert("--ragged", "torn"), "--ragged"},
		{convert("--decimal-mark", "dot"), "--decimal-mark"},
		{convert("--names", "shout"), "--names"},
		{convert("--scan", "half"), "--scan"},
		{convert("--mixed", "shaken"), "--mixed"},
		{convert("--type", "note"), "--type"},
		{convert("--type", "note=quaternion"), "quaternion"},
		{convert("--type", "noet=long"), "the nearest name is"},
		{convert("--rename", "note"), "--rename"},
		{convert("--only", "nope"), "nope"},
		{convert("--key", "nope"), "nope"},
		{convert("--nested", "crush"), "use keep or flatten"},
		{convert("--lists", "json"), "add --nested flatten"},
		{convert("--flatten-depth", "-1"), "counts from 0 on"},
		{convert("--unnest", "note"), "it is string, not a list; name one of the lists"},
		{convert("--unnest-index"), "name a list: --unnest LIST"},
		{convert("--unnest-empty", "burn"), "use keep or drop"},
		{convert("--nest", "pos"), "write it like --nest position=lat,lon"},
		{convert("--nest-rows", "l"), "write it like --nest-rows"},
		{convert("--derive", "= 3"), "write it like --derive"},
		{convert("--where", "note"), "compare it with something"},
		{[]string{"convert", "--files-from", "empty.txt", "--to", "o.parquet"},
			"lists no source; put a path, folder or pattern on each line"},
		{convert("--feed", "nope.yaml"), "nope.yaml"},
		{[]string{"preview", "r.csv", "-n", "-1"}, "-n"},
		{[]string{"infer", "r.csv", "--emit", "poem"}, "--emit"},
		{[]string{"infer", "r.csv", "--column", "nope"}, "nope"},
		{[]string{"describe", "ops.q"}, "ops.r"},
		{[]string{"schema", "ops.q"}, "ops.r"},
		{[]string{"schema", "ops.r", "7"}, "--diff takes a table and two versions"},
		{[]string{"tables", "-o", "song"}, "table or json"},
		{[]string{"levitate"}, "levitate"},
	} {
		r := trevak(t, tt.args...)
		if r.code == 0 || r.out != "" || !strings.Contains(r.err, tt.want) {
			t.Errorf("trevak %s: exit %d with %q; want %q", strings.Join(tt.args, " "), r.code, r.err, tt.want)
		}
		if strings.Contains(r.err, "panic") || strings.Contains(r.err, "goroutine") {
			t.Errorf("trevak %s: %s", strings.Join(tt.args, " "), r.err)
		}
	}
	if after := tree(t); !slices.Equal(before, after) {
		t.Errorf("a refused run left %v, before there was %v", after, before)
	}
}

// tree lists the files below the working folder.
func tree(t *testing.T) (out []string) {
	t.Helper()
	err := filepath.WalkDir(".", func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			out = append(out, path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}
