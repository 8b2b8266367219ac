package inkret

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"strings"
	"testing"
)

// Limits of what one person can keep in mind. Tests are exempt from the length, since a table of cases or a long
// story is read from top to bottom. Types with methods that generated code requires are exempt, too.
const (
	longestFunction  = 80 // lines
	mostParameters   = 6
	mostMethods      = 40 // exported ones of a type
	documentedFolder = "service/ store/"
)

// written returns every hand-written Go file, by name.
func written(t *testing.T, fset *token.FileSet) map[string]*ast.File {
	t.Helper()
	out, err := exec.Command("git", "ls-files", "--cached", "--others", "--exclude-standard", "*.go").Output()
	if err != nil {
		t.Skip("this is no repository")
	}
	files := map[string]*ast.File{}
	for _, name := range strings.Fields(string(out)) {
		if strings.HasSuffix(name, ".gen.go") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		if f, err := parser.ParseFile(fset, name, nil, parser.ParseComments); err == nil {
			files[name] = f
		}
	}
	if len(files) < 100 {
		t.Fatalf("only %d files were read", len(files))
	}
	return files
}

// TestFunctionsAndTypesCanBeKeptInMind checks the length of functions, their number of parameters, and how many
// methods a type exports.
func TestFunctionsAndTypesCanBeKeptInMind(t *testing.T) {
	fset, methods := token.NewFileSet(), map[string]int{}
	for name, f := range written(t, fset) {
		for _, d := range f.Decls {
			fd, is := d.(*ast.FuncDecl)
			if !is {
				continue
			}
			if n := fset.Position(fd.End()).Line - fset.Position(fd.Pos()).Line + 1; n > longestFunction {
				t.Errorf("%s: %s has %d lines, more than %d", name, fd.Name.Name, n, longestFunction)
			}
			parameters := 0
			for _, p := range fd.Type.Params.List {
				parameters += max(1, len(p.Names))
			}
			if parameters > mostParameters {
				t.Errorf("%s: %s has %d parameters, more than %d", name, fd.Name.Name, parameters, mostParameters)
			}
			if fd.Recv != nil && fd.Name.IsExported() {
				at := name[:strings.LastIndexByte(name, '/')+1]
				methods[at+strings.TrimLeft(fmt.Sprint(receiver(fd)), "*")]++
			}
		}
	}
	for of, n := range methods {
		if n > mostMethods {
			t.Errorf("%s exports %d methods, more than %d", of, n, mostMethods)
		}
	}
}

func receiver(fd *ast.FuncDecl) string {
	of := fd.Recv.List[0].Type
	if star, is := of.(*ast.StarExpr); is {
		of = star.X
	}
	if generic, is := of.(*ast.IndexExpr); is {
		of = generic.X
	}
	if name, is := of.(*ast.Ident); is {
		return name.Name
	}
	return "?"
}

// TestExportedNamesOfTheHouseAreDocumented checks that in service and store every exported name has a comment:
// types, functions, values, and the fields of exported types.
func TestExportedNamesOfTheHouseAreDocumented(t *testing.T) {
	fset, looked := token.NewFileSet(), 0
	for name, f := range written(t, fset) {
		if room, _, _ := strings.Cut(name, "/"); !strings.Contains(documentedFolder, room+"/") {
			continue
		}
		need := func(n ast.Node, what string, exported bool, docs ...*ast.CommentGroup) {
			if !exported {
				return
			}
			looked++
			for _, doc := range docs {
				if doc != nil {
					return
				}
			}
			t.Errorf("%s: %s has no comment that says what it is", fset.Position(n.Pos()), what)
		}
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				need(d, d.Name.Name, d.Name.IsExported(), d.Doc)
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					switch s := spec.(type) {
					case *ast.ValueSpec:
						for _, n := range s.Names {
							need(n, n.Name, n.IsExported(), d.Doc, s.Doc, s.Comment)
						}
					case *ast.TypeSpec:
						need(s, s.Name.Name, s.Name.IsExported(), d.Doc, s.Doc)
						of, is := s.Type.(*ast.StructType)
						if !is || !s.Name.IsExported() {
							continue
						}
						for _, field := range of.Fields.List {
							for _, n := range field.Names {
								need(n, s.Name.Name+"."+n.Name, n.IsExported(), field.Doc, field.Comment)
							}
						}
					}
				}
			}
		}
	}
	if looked < 500 {
		t.Errorf("only %d names were looked at", looked)
	}
}
