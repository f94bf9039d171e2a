package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"gentlepiston.example/piston/core/definition"
)

// oddity is something in a script that does other than its writer thought.
type oddity struct {
	code, message, fix string
	line               int
	word               string
}

// Programs whose result is asked for, so that hiding it hides nothing.
var asking = []string{"grep", "test", "[", "diff", "cmp", "which", "command", "type", "git", "find", "ls", "cat",
	"echo", "printf", "rm", "kill", "pkill", "sleep",
	"read", "head", "tail", "sed", "awk", "sort", "tr", "cut", "wc", "date", "true", "false", ":", "mkdir", "cp", "mv",
	"yes", "seq", "curl", "ps", "df", "du", "env", "uname", "tput"}

// bashOnly are commands that dash, which is sh on Debian, does not have; a condition with one is never true.
var bashOnly = []string{"[[", "((", "source", "declare", "typeset", "let", "shopt", "pushd", "popd", "mapfile",
	"readarray", "compgen"}

// oddities looks through a script for what hides failures, and for words of another shell.
func oddities(file *syntax.File, script, shell string) (found []oddity) {
	add := func(at syntax.Pos, code, word, fix, format string, args ...any) {
		found = append(found,
			oddity{code: code, message: fmt.Sprintf(format, args...), fix: fix, line: int(at.Line()), word: word})
	}
	if i := strings.Index(script, "\r\n"); i >= 0 {
		found = append(found,
			oddity{"crlf", "its lines end with a carriage return, which the shell takes for a part of each last word",
				"Save the file with line ends of Unix (LF).",
				strings.Count(script[:i], "\n") + 1, ""})
	}
	pipefail := shell == definition.ShellBash || strings.Contains(script, "pipefail")
	checksStatus := strings.Contains(script, "$?") || strings.Contains(script, "PIPESTATUS")
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CmdSubst, *syntax.FuncDecl:
			return false // what is asked for, and what runs when and where it is not known
		case *syntax.CallExpr:
			name := nameOf(n)
			if shell == definition.ShellSh && slices.Contains(bashOnly, name) {
				add(n.Pos(), "not-in-sh", name, `Say shell = "bash", or write it as sh knows it.`,
					"%s is of bash, and this script runs in sh, which looks for a program of that name: a condition with it is "+
						"never true", name)
			}
			if name == "set" && slices.ContainsFunc(n.Args[1:],
				func(w *syntax.Word) bool { t, _ := literal(w); return t == "+e" }) && !checksStatus {
				add(n.Pos(), "hidden-failure", "set", "Leave it out; or look at $? after what may fail.",
					"after set +e a command that fails does not fail the step")
			}
		case *syntax.BinaryCmd:
			left, right := n.X, n.Y
			switch {
			case n.Op == syntax.Pipe && !pipefail && !checksStatus && passesOn(right):
				if name := works(left); name != "" {
					add(n.OpPos, "hidden-failure", name, `Say shell = "bash", where a pipe fails with any of its commands.`,
						"when %s fails, the step passes all the same: a pipe's result is that of its last command", name)
				}
			case n.Op == syntax.OrStmt && !checksStatus:
				if name := works(left); name != "" && harmlessEnd(right) {
					add(n.OpPos, "hidden-failure", name, "Leave the || out; a step that may fail says advisory = true.",
						"when %s fails, the step passes all the same: || makes up for it", name)
				}
			}
		}
		return true
	})
	return found
}

func nameOf(c *syntax.CallExpr) string {
	if len(c.Args) == 0 {
		return ""
	}
	name, _ := literal(c.Args[0])
	if name == "" {
		for _, part := range c.Args[0].Parts { // "[[" is a glob to literal
			if l, is := part.(*syntax.Lit); is && l.Value == "[[" {
				return "[["
			}
		}
	}
	return name
}

// works is the name of a program that does a step's work, such as make, when a statement is a call of one; else "".
func works(s *syntax.Stmt) string {
	if s == nil || s.Negated || s.Background {
		return ""
	}
	switch c := s.Cmd.(type) {
	case *syntax.CallExpr:
		name := nameOf(c)
		if name == "" || slices.Contains(asking, name) || slices.Contains(known, name) {
			return ""
		}
		return name
	case *syntax.BinaryCmd:
		if c.Op == syntax.AndStmt {
			if name := works(c.X); name != "" {
				return name
			}
			return works(c.Y)
		}
	case *syntax.Subshell:
		if len(c.Stmts) > 0 {
			return works(c.Stmts[len(c.Stmts)-1])
		}
	case *syntax.Block:
		if len(c.Stmts) > 0 {
			return works(c.Stmts[len(c.Stmts)-1])
		}
	}
	return ""
}

// passing programs succeed whatever comes to them, so that what failed before the pipe is forgotten. grep does not.
var passing = []string{"tee", "cat", "head", "tail", "sed", "awk", "sort", "uniq", "tr", "cut", "wc", "less", "more",
	"fold", "column", "nl", "ts"}

func passesOn(s *syntax.Stmt) bool {
	c, is := s.Cmd.(*syntax.CallExpr)
	return is && slices.Contains(passing, nameOf(c))
}

// harmlessEnd tells that a statement always succeeds, so that what failed before it is forgotten.
func harmlessEnd(s *syntax.Stmt) bool {
	c, is := s.Cmd.(*syntax.CallExpr)
	return is && slices.Contains([]string{"true", ":", "echo", "printf"}, nameOf(c))
}

// given are variables that a step has without anybody's setting them.
var given = regexp.MustCompile(`^(HOME|PATH|PWD|OLDPWD|TMPDIR|LANG|LC_\w+|TERM|CI|USER|LOGNAME|SHELL|HOSTNAME|UID|` +
	`EUID|IFS|OPTARG|OPTIND|RANDOM|SECONDS|LINENO|PPID|REPLY|PS\d|BASH\w*|PIPESTATUS|FUNCNAME|SHLVL|PISTON_\w+)$`)

// missingVariables finds the variables that a script uses and that nothing sets, each once, with the line.
func missingVariables(file *syntax.File, set map[string]bool) (names []string, lines map[string]int) {
	own, lines := map[string]bool{}, map[string]int{}
	opaque := false
	note := func(w *syntax.Word) {
		if text, ok := literal(w); ok {
			own[text] = true
		}
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Assign:
			if n.Name != nil {
				own[n.Name.Value] = true
			}
		case *syntax.ForClause:
			if it, is := n.Loop.(*syntax.WordIter); is {
				own[it.Name.Value] = true
			}
		case *syntax.CallExpr:
			switch name := nameOf(n); name {
			case ".", "source", "eval":
				opaque = true // it may set any
			case "read", "getopts", "printf", "mapfile", "readarray", "unset", "let":
				for _, w := range n.Args[1:] {
					note(w)
				}
			}
		case *syntax.ArithmCmd, *syntax.LetClause:
			opaque = true
		}
		return true
	})
	if opaque {
		return nil, nil
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		p, is := n.(*syntax.ParamExp)
		if !is || p.Param == nil {
			return true
		}
		name := p.Param.Value
		switch {
		case p.Exp != nil && p.Exp.Op != syntax.RemSmallSuffix && p.Exp.Op != syntax.RemLargeSuffix &&
			p.Exp.Op != syntax.RemSmallPrefix && p.Exp.Op != syntax.RemLargePrefix:
			// ${NAME:-default} and its kin say what to do without
		case !envName.MatchString(name) || own[name] || set[name] || given.MatchString(name) || lines[name] > 0:
		default:
			names = append(names, name)
			lines[name] = int(p.Pos().Line())
		}
		return true
	})
	return names, lines
}

var envName = regexp.MustCompile(`^[A-Za-z_]\w*$`)
