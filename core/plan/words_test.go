package plan

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// The keys that are offered are those that are read: each text that stands among
// the keys of a mapping in the code.
func TestTheWordsOfAPlanAreThoseThatAreRead(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	key := regexp.MustCompile(`^[a-z_0-9]+$`)
	var read []string
	collect := func(n ast.Node) {
		ast.Inspect(n, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				if text, _ := strconv.Unquote(lit.Value); key.MatchString(text) {
					read = append(read, text)
				}
			}
			return true
		})
	}
	look := func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CallExpr:
			if f, ok := n.Fun.(*ast.SelectorExpr); ok && f.Sel.Name == "mapping" {
				for _, a := range n.Args[min(4, len(n.Args)):] {
					collect(a)
				}
			}
		case *ast.ValueSpec:
			if len(n.Names) == 1 && slices.Contains([]string{"lineKeys", "tlsKeys", "networks"}, n.Names[0].Name) {
				collect(n)
			}
		}
		return true
	}
	for _, file := range files {
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasSuffix(file, "_test.go") && file != "bounds.go" && file != "alert.go" { // which are no plans
			ast.Inspect(f, look)
		}
	}
	slices.Sort(read)
	read = slices.Compact(read)
	if len(read) < 80 {
		t.Fatalf("only %d keys are found in the code", len(read))
	}
	offered := Words()
	for _, word := range read {
		if !slices.Contains(offered, word) {
			t.Errorf("%q is read and not offered", word)
		}
	}
	for _, word := range keys {
		if !slices.Contains(read, word) {
			t.Errorf("%q is offered as a key and read nowhere", word)
		}
	}
}
