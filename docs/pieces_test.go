package docs

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	mostLines    = 60
	mostBranches = 15
	mostChoices  = 20 // branches, and conditions joined by && and ||
)

// A function that is longer than a screen, or branches more than a reader keeps in mind, says why it is in one
// piece, or is cut.
func TestPieces(t *testing.T) {
	files := token.NewFileSet()
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(files, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil || strings.Contains(fn.Doc.Text(), "In one piece: ") {
				continue
			}
			lines := files.Position(fn.End()).Line - files.Position(fn.Pos()).Line + 1
			assert.LessOrEqual(t, lines, mostLines, "%s: %s has %d lines: cut it, or say why it is \"In one piece: …\"", path, fn.Name.Name, lines)
			n, all := branches(fn.Body)
			assert.LessOrEqual(t, all, mostChoices, "%s: %s has %d branches and joined conditions: cut it, or say why it is \"In one piece: …\"", path, fn.Name.Name, all)
			assert.LessOrEqual(t, n, mostBranches, "%s: %s has %d branches: cut it, or say why it is \"In one piece: …\"", path, fn.Name.Name, n)
		}
		return nil
	})
	require.NoError(t, err)
}

// branches counts the ways that a body may go, and those with each of the conditions that are joined.
func branches(body *ast.BlockStmt) (n, all int) {
	n = 1
	ast.Inspect(body, func(node ast.Node) bool {
		switch node := node.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			if node.List != nil {
				n++
			}
		case *ast.CommClause:
			if node.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if node.Op == token.LAND || node.Op == token.LOR {
				all++
			}
		}
		return true
	})
	return n, n + all
}
