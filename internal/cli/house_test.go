package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// face are the packages that may know of terminals and commands; below are things that no other package may touch.
var (
	face    = []string{"cli", "render"}
	imports = []string{"trevak/internal/cli", "trevak/internal/render", "github.com/spf13/", "golang.org/x/term", "log", "flag"}
	calls   = []string{"os.Exit", "os.Getenv", "os.LookupEnv", "os.Environ", "fmt.Print", "fmt.Println", "fmt.Printf", "os.Stdout",
		"os.Stderr", "os.Stdin"}
)

// disk are the calls that touch disks and networks, which only storage makes, and the folders of tests.
var (
	disk = []string{"os.Open", "os.OpenFile", "os.Create", "os.CreateTemp", "os.MkdirTemp", "os.Stat", "os.Lstat", "os.ReadFile",
		"os.WriteFile", "os.ReadDir", "os.Mkdir",
		"os.MkdirAll", "os.Remove", "os.RemoveAll", "os.Rename", "os.Link", "os.Symlink", "os.Chmod", "os.Chdir", "os.DirFS",
		"filepath.Walk", "filepath.WalkDir", "filepath.Glob",
		"filepath.EvalSymlinks", "filepath.Abs", "http.Get", "http.NewRequest", "http.NewRequestWithContext", "net.Dial"}
	mayTouchDisks = []string{"storage", "testfolder", "sandbox", "database"}
	// mayAsk are files that send requests of a protocol that the library for it has no verb for.
	mayAsk = []string{"table/servicewire.go", "gauge/telemetry.go", "notice/teller.go"}
)

// TestCoreKnowsNothingOfTheFace holds the rule that only cli and render print, exit, read the environment or know commands.
func TestCoreKnowsNothingOfTheFace(t *testing.T) {
	checked := 0
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() {
			for _, name := range face {
				if path == filepath.Join("..", name) {
					return fs.SkipDir
				}
			}
			return nil
		}
		if strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "_test.go") {
			checked++
			checkFile(t, path)
			if folder, _, _ := strings.Cut(filepath.ToSlash(strings.TrimPrefix(path, ".."+string(filepath.Separator))),
				"/"); !slices.Contains(mayTouchDisks, folder) && !mayAskBy(path) {
				checkCalls(t, path, disk)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if checked < 20 {
		t.Errorf("only %d files were found", checked)
	}
}

func mayAskBy(path string) bool {
	return slices.ContainsFunc(mayAsk, func(file string) bool { return strings.HasSuffix(filepath.ToSlash(path), "/"+file) })
}

func checkFile(t *testing.T, path string) {
	t.Helper()
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
	if err != nil {
		t.Fatal(err)
	}
	for _, spec := range file.Imports {
		name, err := strconv.Unquote(spec.Path.Value)
		if err != nil {
			t.Fatal(err)
		}
		for _, forbidden := range imports {
			if name == forbidden || strings.HasSuffix(forbidden, "/") && strings.HasPrefix(name, forbidden) {
				t.Errorf("%s imports %s", set.Position(spec.Pos()), name)
			}
		}
	}
	checkCalls(t, path, calls)
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CallExpr:
			if name, ok := n.Fun.(*ast.Ident); ok && (name.Name == "print" || name.Name == "println") {
				t.Errorf("%s prints", set.Position(n.Pos()))
			}
		case *ast.BasicLit:
			if n.Kind == token.STRING && namesCommand.MatchString(n.Value) {
				t.Errorf("%s names a command: %s", set.Position(n.Pos()), n.Value)
			}
		}
		return true
	})
}

// checkCalls finds the use of some functions and variables of packages.
func checkCalls(t *testing.T, path string, forbidden []string) {
	t.Helper()
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
	if err != nil {
		t.Fatal(err)
	}
	ast.Inspect(file, func(n ast.Node) bool {
		if n, ok := n.(*ast.SelectorExpr); ok {
			if of, ok := n.X.(*ast.Ident); ok && slices.Contains(forbidden, of.Name+"."+n.Sel.Name) {
				t.Errorf("%s uses %s.%s", set.Position(n.Pos()), of.Name, n.Sel.Name)
			}
		}
		return true
	})
}

// TestLinesAreShort holds the length of lines, which tests exceed for data that reads better in one.
func TestLinesAreShort(t *testing.T) {
	for _, root := range []string{"..", "../../cmd", "../../early", "../../shims"} {
		err := filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			for i, line := range strings.Split(string(text), "\n") {
				if len(line) >= 140 {
					t.Errorf("%s:%d has %d bytes", path, i+1, len(line))
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// namesCommand finds commands of the face, whose own words for what can be done they are. What a convert signs is none.
var namesCommand = regexp.MustCompile(`trevak (preview|infer|load|describe|alter|feed|tables|weigh|schema)\b`)

// road is every package in the order in which they may know each other: each knows only those before it.
var road = []string{"wording", "fault", "mask", "magic", "prefault", "ahead", "testfolder", "storage", "storage/storagetest", "storage/remote", "storage/vended", "storage/s3", "storage/gcs", "storage/azure", "database", "sandbox", "config", "lexical", "wordtable", "rowtext", "rowhash", "sheet", "locate/inflate", "locate", "parse",
	"parse/bytemask", "parse/cells", "parse/delimited", "parse/json",
	"parse/geojson", "parse/xml", "sniff", "schema", "expr", "fit", "shape", "columnar/encode", "columnar/decode", "columnar/footer", "columnar/orc",
	"profile", "columnar", "layout", "ledger", "table", "quarantine", "run", "source",
	"scan", "check", "prove", "infer", "weigh", "write", "amend", "load", "transfer", "upkeep", "convert", "reconcile", "inspect", "setting", "feed", "runsheet", "conduct",
	"gauge", "notice", "runlog", "chronicle", "arrival", "health", "demo", "render", "cli"}

// TestStagesKnowOnlyThoseBefore holds the order of the road, and that every package has its place on it.
func TestStagesKnowOnlyThoseBefore(t *testing.T) {
	// Header detection looks at the classes of values, which is the schema's business.
	exceptions := map[string]string{"sniff": "schema"}
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		name := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), ".."+string(filepath.Separator)))
		rank := slices.Index(road, name)
		if rank < 0 {
			t.Errorf("%s has no place on the road", name)
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			used, ok := strings.CutPrefix(strings.Trim(spec.Path.Value, `"`), "trevak/internal/")
			if ok && slices.Index(road, used) > rank && exceptions[name] != used {
				t.Errorf("%s imports %s, which comes after it", path, used)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
