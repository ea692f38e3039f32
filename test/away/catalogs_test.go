package away

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// catalogs are what the catalog "office" of trevak.yaml is in tests.
var catalogs = map[string]func(t *testing.T, lose string){
	"rest": func(t *testing.T, lose string) {
		served(t, "--lose", lose)
		office(t, "    kind: rest\n    uri: "+os.Getenv("AWS_ENDPOINT_URL")+"\n    location: s3://orrin/warehouse\n")
	},
	"rest with tokens and given keys": func(t *testing.T, lose string) {
		// They hold for less than the time before whose end they are renewed: each is used once or twice.
		served(t, "--lose", lose, "--guard", "45s")
		address := os.Getenv("AWS_ENDPOINT_URL")
		for _, name := range []string{"AWS_ENDPOINT_URL", "AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "AWS_REGION"} {
			t.Setenv(name, "")
		}
		t.Setenv("OFFICE_LOGIN", "sandbox:sandbox-secret")
		office(t, "    kind: rest\n    uri: "+address+"\n    location: s3://orrin/warehouse\n    credential_from: env:OFFICE_LOGIN\n")
	},
	"file of SQLite": func(t *testing.T, lose string) {
		served(t, "--lose", lose)
		office(t, "    kind: sql\n    uri: sqlite:catalog.db\n    location: s3://orrin/warehouse\n")
	},
	"PostgreSQL": func(t *testing.T, _ string) {
		uri := os.Getenv("TREVAK_TEST_POSTGRES")
		if uri == "" {
			t.Skip("TREVAK_TEST_POSTGRES names no database; test/away/servers starts one")
		}
		office(t, "    kind: sql\n    uri: "+uri+"\n    location: tables\n    warehouse: "+filepath.Base(t.TempDir())+fmt.Sprint(time.Now().UnixNano())+"\n")
	},
}

// office describes a catalog in trevak.yaml, and another one that is a folder.
func office(t *testing.T, described string) {
	t.Helper()
	config := "catalogs:\n  office:\n" + described + "  cellar:\n    kind: folder\n    location: cellar\n"
	if err := os.WriteFile("trevak.yaml", []byte(config), 0o666); err != nil {
		t.Fatal(err)
	}
}

// TestTheDayByACatalog does the work of a day on tables of catalogs, of which one loses answers.
func TestTheDayByACatalog(t *testing.T) {
	for name, begin := range catalogs {
		t.Run(name, func(t *testing.T) {
			testfolder.Make(t, stationDay)
			begin(t, "5")
			theDay(t)
		})
	}
}

func theDay(t *testing.T) {
	t.Setenv("TREVAK_CATALOG", "office")
	must(t, []string{"load", "in/a.csv", "--into", "ops.deep.waves", "--key", "id", "--partition", "sea_area"}, "400 read = 400 written")
	must(t, []string{"load", "in", "--into", "ops.deep.waves"}, "400 read = 400 written")
	must(t, []string{"load", "in", "--into", "ops.deep.waves"}, "nothing new")
	must(t, []string{"tag", "ops.deep.waves", "whole"}, "whole")
	must(t, []string{"load", "fix.csv", "--into", "ops.deep.waves", "--mode", "upsert"}, "1 updated")
	must(t, []string{"tables"}, "ops.deep.waves", "801")
	must(t, []string{"describe", "ops.deep.waves"}, "/ops/deep/waves")
	must(t, []string{"alter", "ops.deep.waves", "--rename", "wave_m=height_m"}, "height_m")
	must(t, []string{"compact", "ops.deep.waves"}, "ops.deep.waves")
	must(t, []string{"rollback", "ops.deep.waves", "--to", "whole"}, "800 rows")
	must(t, []string{"reconcile", "in", "--with", "ops.deep.waves"}, "agree")
	must(t, []string{"copy", "ops.deep.waves", "--to", "second"}, "800")
	must(t, []string{"copy", "ops.deep.waves", "--to", "cellar"}, "800")
	must(t, []string{"copy", "ops.deep.waves", "--to", "cellar:ops.copied"}, "800")
	must(t, []string{"copy", "ops.copied", "--to", "office:back.again", "--catalog", "cellar"}, "800")
	must(t, []string{"reconcile", "in", "--with", "back.again"}, "agree")
	must(t, []string{"copy", "ops.copied", "--to", "office:back.whole", "--history", "--catalog", "cellar"}, "copied with its history")
	must(t, []string{"reconcile", "in", "--with", "back.whole"}, "agree")
	must(t, []string{"grants", "back.whole"}, "commit to")
	must(t, []string{"namespaces", "create", "ops.empty"}, "made")
	must(t, []string{"namespaces"}, "ops.deep", "ops.empty")
	must(t, []string{"namespaces", "drop", "ops.empty"}, "dropped")
	must(t, []string{"sweep", "ops.deep.waves", "--older-than", "0s"}, "ops.deep.waves")
	must(t, []string{"drop", "ops.deep.waves", "--yes"}, "ops.deep.waves")
	if r := must(t, []string{"tables"}); strings.Contains(r.out, "ops.deep.waves") {
		t.Errorf("after it was dropped: %s", r.out)
	}
	refused(t, 1, []string{"describe", "ops.deep.waves"}, "ops.deep.waves")
	must(t, []string{"load", "in/a.csv", "--into", "ops.waves", "--catalog", "cellar"}, "400 written")
	must(t, []string{"tables", "--catalog", "cellar"}, "ops.waves")
	must(t, []string{"tables", "-w", "cellar"}, "ops.waves")
	refused(t, 2, []string{"tables", "--catalog", "offic"}, "office")
	refused(t, 2, []string{"tables", "--catalog", "office", "-w", "cellar"}, "leave one of them out")
}

// TestManyLoadByACatalog has loads race for a table of catalogs, of which one loses answers.
func TestManyLoadByACatalog(t *testing.T) {
	for name, begin := range catalogs {
		t.Run(name, func(t *testing.T) {
			testfolder.Make(t, nil)
			begin(t, "11")
			manyLoad(t, "--catalog", "office")
		})
	}
}

// TestCatalogsThatCannotBeReached asks catalogs that are described wrongly, or not there.
func TestCatalogsThatCannotBeReached(t *testing.T) {
	testfolder.Make(t, nil)
	for text, want := range map[string]string{
		"catalogs:\n  a:\n    kind: rest\n    location: s3://orrin/w\n    uri: catalog.example\n":                                   "trevak.yaml:3: the catalog a has no address",
		"catalogs:\n  a:\n    kind: shelf\n    location: w\n":                                                                       "is of no kind that is known",
		"catalogs:\n  a:\n    kind: folder\n":                                                                                       "where its tables lie",
		"catalogs:\n  a:\n    kind: sql\n    location: w\n    uri: mysql://h/d\n":                                                   "no address of a database",
		"catalogs:\n  a:\n    kind: sql\n    location: w\n    uri: postgres://me:pw@h/d\n":                                          "has a password in it",
		"catalogs:\n  a:\n    kind: sql\n    location: w\n    uri: sqlite:c.db\n    scope: catalog\n":                               "has no prefix, token, scope",
		"catalogs:\n  a:\n    kind: folder\n    location: w\n    uri: http://127.0.0.1:9\n":                                         "leave out all but",
		"catalogs:\n  a:\n    kind: rest\n    location: w\n    uri: http://127.0.0.1:9\n    token_from: env:NO_SUCH_TOKEN\n":        "NO_SUCH_TOKEN",
		"catalogs:\n  a:\n    kind: rest\n    location: w\n    uri: http://127.0.0.1:9\n    credential_from: none.txt\n":            "none.txt",
		"catalogs:\n  a:\n    kind: rest\n    location: w\n    uri: http://127.0.0.1:9\n    token: keep-this\n    scope: catalog\n": `the key "token" is not known`,
	} {
		if err := os.WriteFile("trevak.yaml", []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
		refused(t, 2, []string{"tables", "--catalog", "a"}, want)
	}
	text := "catalogs:\n  a:\n    kind: rest\n    location: w\n    uri: http://127.0.0.1:9\n"
	if err := os.WriteFile("trevak.yaml", []byte(text), 0o666); err != nil {
		t.Fatal(err)
	}
	refused(t, 1, []string{"tables", "--catalog", "a"}, "the catalog a at http://127.0.0.1:9 does not answer")
}
