package cli

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
)

// TestMemoryDoesNotChangeRows writes in order and in partitions with little memory, so that rows wait on the disk, and with much, and
// compares the rows.
func TestMemoryDoesNotChangeRows(t *testing.T) {
	t.Chdir(t.TempDir())
	random := rand.New(rand.NewPCG(1, 2))
	var text strings.Builder
	text.WriteString("reading_id,area,note\n")
	for i := range 400_000 {
		fmt.Fprintf(&text, "%d,area %d,\"seen by the crew at mark %d\"\n", i, random.IntN(70), random.IntN(1_000_000))
	}
	if err := os.WriteFile("r.csv", []byte(text.String()), 0o666); err != nil {
		t.Fatal(err)
	}
	for i, how := range [][]string{{"--sort", "area,reading_id desc"}, {"--partition", "area"}} {
		var rows []string
		for _, memory := range []string{"96MiB", "1GiB"} {
			out := fmt.Sprintf("%d-%s", i, memory)
			to := out + ".parquet"
			if how[0] == "--partition" {
				to = out + "/"
			}
			must(t, append([]string{"convert", "r.csv", "--to", to, "--memory", memory}, how...), "400,000 read = 400,000 written")
			must(t, []string{"convert", to, "--to", out + ".csv", "--memory", memory}, "400,000 written")
			content, err := os.ReadFile(out + ".csv")
			if err != nil {
				t.Fatal(err)
			}
			rows = append(rows, string(content))
		}
		if rows[0] != rows[1] {
			t.Errorf("%v: with little memory the rows are others, or in another order", how)
		}
	}
	refused(t, 2, []string{"convert", "r.csv", "--to", "x.parquet", "--memory", "3MB"}, "--memory 3MB is less than the program needs; "+
		"allow at least 96MiB")
	refused(t, 2, []string{"convert", "r.csv", "--to", "x.parquet", "--memory", "much"}, `--memory "much" is no size`)
}
