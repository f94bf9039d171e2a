package main

import (
	"cmp"
	"context"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

const module = "gentlepiston.example/piston/"

// fault is one change of the bytes [from, to) of a file, in which package, and what it is in words.
type fault struct {
	pkg, file    string
	begins, ends int // lines of the function it is in
	line, column int
	from, to     int
	with         string
	what         string
}

// swapped are the operators and what each becomes.
var swapped = map[token.Token]string{
	token.EQL: "!=", token.NEQ: "==", token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">",
	token.LAND: "||", token.LOR: "&&", token.ADD: "-", token.SUB: "+", token.MUL: "/", token.QUO: "*",
}

// listed is what go list tells of a package.
type listed struct {
	Dir, ImportPath           string
	GoFiles                   []string
	TestGoFiles, XTestGoFiles []string
}

func list(ctx context.Context, patterns ...string) ([]listed, error) {
	cmd := exec.CommandContext(ctx, "go", append([]string{"list", "-json"}, patterns...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return nil, err
	}
	var packages []listed
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		if err := d.Decode(&p); err == io.EOF {
			return packages, nil
		} else if err != nil {
			return nil, err
		}
		packages = append(packages, p)
	}
}

// faultsOf lists every fault that can be made in the functions of the packages that fit the pattern.
func faultsOf(ctx context.Context, pattern string) ([]fault, error) {
	packages, err := list(ctx, pattern)
	if err != nil {
		return nil, err
	}
	here, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	var all []fault
	for _, p := range packages {
		for _, name := range p.GoFiles {
			full := filepath.Join(p.Dir, name)
			text, err := os.ReadFile(full)
			if err != nil {
				return nil, err
			}
			positions := token.NewFileSet()
			tree, err := parser.ParseFile(positions, full, text, parser.SkipObjectResolution)
			if err != nil {
				return nil, err
			}
			file, err := filepath.Rel(here, full)
			if err != nil {
				return nil, err
			}
			m := maker{fault: fault{pkg: p.ImportPath, file: file}, positions: positions, text: string(text)}
			for _, d := range tree.Decls {
				if f, is := d.(*ast.FuncDecl); is && f.Body != nil {
					m.begins, m.ends = positions.Position(f.Pos()).Line, positions.Position(f.End()).Line
					ast.Inspect(f.Body, m.visit)
				}
			}
			all = append(all, m.made...)
		}
	}
	return all, nil
}

// maker makes the faults of one file.
type maker struct {
	fault
	positions *token.FileSet
	text      string
	made      []fault
}

// change makes a fault of what stands from one position to another.
func (m *maker) change(from, to token.Pos, with string) {
	f, at := m.fault, m.positions.Position(from)
	f.line, f.column, f.from, f.to, f.with = at.Line, at.Column, at.Offset, m.positions.Position(to).Offset, with
	before, _, _ := strings.Cut(m.text[f.from:f.to], "\n")
	after, _, _ := strings.Cut(with, "\n")
	f.what = before + "  ->  " + cmp.Or(after, "nothing")
	m.made = append(m.made, f)
}

// never wraps a statement so that it is not done and still compiles.
func (m *maker) never(s ast.Stmt) {
	m.change(s.Pos(), s.End(), "if false { "+m.of(s)+" }")
}

func (m *maker) of(n ast.Node) string {
	return m.text[m.positions.Position(n.Pos()).Offset:m.positions.Position(n.End()).Offset]
}

func (m *maker) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		if with, is := swapped[n.Op]; is {
			m.change(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), with)
		}
	case *ast.UnaryExpr:
		if n.Op == token.NOT {
			m.change(n.OpPos, n.OpPos+1, "")
		}
	case *ast.IfStmt:
		m.change(n.Cond.Pos(), n.Cond.End(), "("+m.of(n.Cond)+") && false")
	case *ast.ExprStmt, *ast.DeferStmt:
		m.never(n.(ast.Stmt))
	case *ast.AssignStmt:
		if n.Tok == token.ASSIGN && m.of(n.Lhs[0]) != "_" {
			m.never(n)
		}
	case *ast.IncDecStmt:
		m.never(n)
	case *ast.Ident:
		switch n.Name {
		case "true":
			m.change(n.Pos(), n.End(), "false")
		case "false":
			m.change(n.Pos(), n.End(), "true")
		}
	case *ast.BasicLit:
		if v, err := strconv.Atoi(n.Value); n.Kind == token.INT && err == nil {
			m.change(n.Pos(), n.End(), strconv.Itoa(v+1))
		}
	case *ast.ReturnStmt:
		if last := len(n.Results) - 1; last >= 0 && m.of(n.Results[last]) == "err" {
			m.change(n.Results[last].Pos(), n.Results[last].End(), "nil")
		}
	case *ast.BranchStmt:
		if n.Label == nil && n.Tok == token.BREAK {
			m.change(n.Pos(), n.End(), "continue")
		}
		if n.Label == nil && n.Tok == token.CONTINUE {
			m.change(n.Pos(), n.End(), "break")
		}
	}
	return true
}
