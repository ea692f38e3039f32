package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// face are the packages that may know of terminals and commands; below are things that no other package may touch.
var (
	face    = []string{"cli", "render"}
	imports = []string{"trevak/internal/cli", "trevak/internal/render", "github.com/spf13/", "golang.org/x/term", "log", "flag"}
	calls   = []string{"os.Exit", "os.Getenv", "os.LookupEnv", "os.Environ", "fmt.Print", "fmt.Println", "fmt.Printf", "os.Stdout", "os.Stderr", "os.Stdin"}
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
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.SelectorExpr:
			if of, ok := n.X.(*ast.Ident); ok {
				for _, forbidden := range calls {
					if of.Name+"."+n.Sel.Name == forbidden {
						t.Errorf("%s uses %s", set.Position(n.Pos()), forbidden)
					}
				}
			}
		case *ast.CallExpr:
			if name, ok := n.Fun.(*ast.Ident); ok && (name.Name == "print" || name.Name == "println") {
				t.Errorf("%s prints", set.Position(n.Pos()))
			}
		}
		return true
	})
}

// TestStagesKnowOnlyThoseBefore holds the order of the road.
func TestStagesKnowOnlyThoseBefore(t *testing.T) {
	road := []string{"fault", "lexical", "rowtext", "sheet", "locate", "parse", "parse/bytemask", "parse/delimited", "parse/json", "parse/geojson", "parse/xml", "sniff", "schema", "expr", "fit", "shape", "columnar/encode", "columnar/orc", "columnar", "layout", "table", "quarantine", "flow"}
	// Header detection looks at the classes of values, which is the schema's business.
	exceptions := map[string]string{"sniff": "schema"}
	rank := map[string]int{}
	for i, name := range road {
		rank[name] = i
	}
	for _, name := range road {
		paths, err := filepath.Glob(filepath.Join("..", filepath.FromSlash(name), "*.go"))
		if err != nil || len(paths) == 0 {
			t.Fatalf("%s: %v", name, err)
		}
		for _, path := range paths {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			if err != nil {
				t.Fatal(err)
			}
			for _, spec := range file.Imports {
				used, ok := strings.CutPrefix(strings.Trim(spec.Path.Value, `"`), "trevak/internal/")
				if ok && rank[used] > rank[name] && exceptions[name] != used {
					t.Errorf("%s imports %s, which comes after it", path, used)
				}
			}
		}
	}
}
