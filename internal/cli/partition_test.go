package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// buoys is a file with a column of every type that can be a partition, and some values that are out of the usual.
func buoys() string {
	var b strings.Builder
	b.WriteString("id,area,price,code,at,ok\n")
	for i := range 60 {
		area := []string{`"Cairn Bay"`, `""`, "", `"../x"`, `"null"`}[i%5]
		fmt.Fprintf(&b, "%d,%s,%d.%02d,0f8fad5b-d9cb-469f-a165-%012d,2031-%02d-01T00:00:00Z,%t\n", i, area, i%7-3, 25*(i%4), i%3, 1+i%12,
			i%2 == 0)
	}
	return b.String()
}

// TestEveryTransform partitions tables by every transform, loads twice, and reads all rows back out of the files.
func TestEveryTransform(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": buoys()})
	kinds := []string{"--type", "price=decimal(9,2)", "--type", "code=uuid"}
	for _, test := range []struct {
		partition string
		folders   int
		one       string
	}{
		{"area", 5, "area=null"},
		{"truncate(1,area)", 5, "area_trunc=C"},
		{"bucket(4,area)", 0, ""},
		{"price", 28, "price=-3.25"},
		{"truncate(100,price)", 8, "price_trunc=-3.00"},
		{"bucket(3,price)", 3, "price_bucket=0"},
		{"code", 3, "code=0f8fad5b-d9cb-469f-a165-000000000002"},
		{"bucket(2,code)", 0, ""},
		{"year(at)", 1, "at_year=2031"},
		{"month(at)", 12, "at_month=2031-07"},
		{"day(at)", 12, "at_day=2031-07-01"},
		{"hour(at)", 12, "at_hour=2031-07-01-00"},
		{"truncate(50,id)", 2, "id_trunc=50"},
		{"ok,area", 10, "ok=true/area=Cairn%20Bay"},
	} {
		name := "ops." + strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return '_'
		}, test.partition)
		args := append([]string{"load", "in.csv", "--into", name, "--partition", test.partition}, kinds...)
		must(t, args, "60 read = 60 written")
		must(t, []string{"load", "in.csv", "--again", "--into", name}, "60 read = 60 written")
		data := filepath.Join("warehouse", "ops", name[4:], "data")
		folders := map[string]bool{}
		err := filepath.WalkDir(data, func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				folders[filepath.Dir(path)] = true
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		if test.folders > 0 && (len(folders) != test.folders || !folders[filepath.Join(data, test.one)]) {
			t.Errorf("%s: %d folders: %v", test.partition, len(folders), folders)
		}
		must(t, []string{"convert", data, "--to", "back.ndjson", "--overwrite"}, "120 read = 120 written")
		back, err := os.ReadFile("back.ndjson")
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSpace(string(back)), "\n")
		slices.Sort(lines)
		if lines = slices.Compact(lines); len(lines) != 60 {
			t.Errorf("%s: %d different rows", test.partition, len(lines))
		}
		must(t, []string{"describe", name}, "partitioned by  "+test.partition, "rows            120")
	}
}

func TestPartitionsThatAreRefused(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": "id,price,weight,depth\n-9223372036854775808,1.50,2.5,3.5\n"})
	types := []string{"--type", "price=decimal(9,2)", "--type", "weight=decimal(5,1)", "--type", "id=long"}
	for partition, test := range map[string]struct {
		want string
		code int
	}{
		"truncate(10,id)": {`column "id" has the value -9223372036854775808, and truncate(10,id) of it is less than a long can be; partition by bucket(16,id) instead`, 3},
		"price,weight": {"price and weight are both decimals, of which the partitions of a table can have one; write " +
			"bucket(16,weight) for one of them", 2},
		"depth":        {`depth cannot be made of column "depth", which is a double; identity takes any column that is neither nested nor floating-point`, 2},
		"hour(price)":  {"hour takes timestamps", 2},
		"bucket(0,id)": {"0 is no width for bucket", 2},
	} {
		refused(t, test.code, append([]string{"load", "in.csv", "--into", "ops.x", "--partition", partition}, types...), test.want)
		if files, _ := filepath.Glob("warehouse/ops/*"); len(files) > 0 {
			t.Errorf("%s: %v is left", partition, files)
		}
	}
	must(t, append([]string{"convert", "in.csv", "--to", "out/", "--partition", "price,weight"}, types...), "partitions  1")
	must(t, append([]string{"weigh", "in.csv", "--try-partition", "price"}, types...), "--partition 'price'")
}
