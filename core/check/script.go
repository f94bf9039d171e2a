package check

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"gentlepiston.example/piston/core/bound"
	"gentlepiston.example/piston/core/definition"
)

// use is something a script needs to be there.
type use struct {
	kind   useKind
	path   string // in the workspace, clean
	word   string // as the script writes it
	target string // for make
	dir    string // the folder it is called from
	line   int    // of the script, from 1
	after  string // a program run before that may have made it, or ""
}

type useKind int

const (
	program useKind = iota // called as a program
	input                  // read by one
	folder                 // gone into
	makes                  // make is called there
)

// reading is what is seen in a script.
type reading struct {
	uses    []use
	opaque  string   // a program that may make any file, or ""
	words   []string // every literal word, for what may be made
	fault   *syntax.ParseError
	guarded map[string]bool // paths whose being there is asked for
	modes   map[string]bool // paths that chmod makes programs
	counts  map[string]int  // of words, without a leading ./
	called  []called        // programs that it calls by their names
	odd     []oddity        // what does other than its writer thought
	unset   []called        // variables that it uses and does not set
}

// count is how often a script says a word.
func (r reading) count(word string) int { return r.counts[strings.TrimPrefix(word, "./")] }

// maxNesting is how deep a script may nest: far deeper than a person can read, far less than the parser's stack.
const maxNesting = 500

// called is a word of a script with its line.
type called struct {
	word string
	line int
}

// reader walks a script, following its working folder.
type reader struct {
	reading
	dir string // "" once it is not known
}

// read looks at a script that runs in a folder.
func read(script, shell, dir string) reading {
	r := &reader{reading: reading{guarded: map[string]bool{}, modes: map[string]bool{}}, dir: path.Clean(dir)}
	lang := syntax.LangPOSIX
	switch shell {
	case definition.ShellBash:
		lang = syntax.LangBash
	case definition.ShellPython:
		return reading{opaque: "python3", words: strings.Fields(script)}
	}
	if depth := bound.Shell(script); depth > maxNesting {
		r.fault = &syntax.ParseError{Text: fmt.Sprintf("it nests %d deep; a script may nest %d deep", depth, maxNesting)}
		return r.reading
	}
	file, err := syntax.NewParser(syntax.Variant(lang)).Parse(strings.NewReader(script), "")
	if err != nil {
		if fault, is := err.(syntax.ParseError); is {
			r.fault = &fault
		} else {
			// What another dialect knows is said as a fault, too: the shell would not.
			r.fault = &syntax.ParseError{Text: err.Error()}
		}
		return r.reading
	}
	r.stmts(file.Stmts)
	r.odd = oddities(file, script, cmp.Or(shell, definition.ShellSh))
	names, lines := missingVariables(file, nil)
	for _, name := range names {
		r.unset = append(r.unset, called{name, lines[name]})
	}
	r.counts = map[string]int{}
	for _, w := range r.words {
		r.counts[strings.TrimPrefix(w, "./")]++
	}
	return r.reading
}

func (r *reader) stmts(list []*syntax.Stmt) {
	for _, s := range list {
		r.stmt(s)
	}
}

func (r *reader) stmt(s *syntax.Stmt) {
	for _, redirect := range s.Redirs {
		text, ok := literal(redirect.Word)
		if !ok {
			continue
		}
		r.words = append(r.words, text)
		if redirect.Op == syntax.RdrIn {
			r.need(input, text, redirect.Pos())
		}
	}
	switch c := s.Cmd.(type) {
	case *syntax.CallExpr:
		r.call(c)
	case *syntax.BinaryCmd:
		r.stmt(c.X)
		r.stmt(c.Y)
	case *syntax.Block:
		r.stmts(c.Stmts)
	case *syntax.Subshell:
		was := r.dir
		r.stmts(c.Stmts)
		r.dir = was
	case *syntax.IfClause:
		r.branch(c)
	case *syntax.WhileClause:
		r.stmts(c.Cond)
		r.stmts(c.Do)
	case *syntax.ForClause:
		r.stmts(c.Do)
	case *syntax.CaseClause:
		for _, item := range c.Items {
			r.stmts(item.Stmts)
		}
	case *syntax.TimeClause:
		if c.Stmt != nil {
			r.stmt(c.Stmt)
		}
	case *syntax.TestClause:
		syntax.Walk(c, func(n syntax.Node) bool {
			if w, is := n.(*syntax.Word); is {
				if text, ok := literal(w); ok {
					r.guard(text)
				}
			}
			return true
		})
	case *syntax.FuncDecl:
		r.opaque = "a function" // when and where it runs is not known
	}
}

func (r *reader) branch(c *syntax.IfClause) {
	r.stmts(c.Cond)
	was := r.dir
	r.stmts(c.Then)
	if r.dir != was {
		r.dir = ""
	}
	if c.Else != nil {
		r.branch(c.Else)
	}
}

// literal is a word's text when nothing in it is computed.
func literal(w *syntax.Word) (string, bool) {
	if w == nil {
		return "", false
	}
	var b strings.Builder
	for _, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.Lit:
			// "[" alone is a command; within a word it begins a glob.
			if p.Value != "[" && strings.ContainsAny(p.Value, "*?[{~\\") {
				return "", false
			}
			b.WriteString(p.Value)
		case *syntax.SglQuoted:
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			for _, inner := range p.Parts {
				l, is := inner.(*syntax.Lit)
				if !is {
					return "", false
				}
				b.WriteString(l.Value)
			}
		default:
			return "", false
		}
	}
	return b.String(), true
}

// wrappers run the command that follows them.
var wrappers = []string{"env", "exec", "command", "time", "nice", "nohup", "builtin"}

// interpreters run the file that follows them.
var interpreters = []string{"sh", "bash", "dash", "python3", "python", "node", "ruby", "perl", ".", "source"}

// known programs write only where they are told to, so a missing file is not their work.
var known = []string{"cd", "echo", "printf", "test", "[", "true", "false", "export", "set", "unset", "cat", "grep",
	"sed", "awk", "sort", "head",
	"tail", "wc", "ls", "cp", "mv", "rm", "mkdir", "touch", "chmod", "sleep", "exit", "return", "read", "date", "env",
	"pwd", "which", "command",
	"sha256sum", "diff", "cmp", "tr", "cut", "tee", "ln", "du", "df", "id", "uname", "kill", "wait", "trap", "shift",
	"basename", "dirname", ":"}

func (r *reader) call(c *syntax.CallExpr) {
	var args []string
	var places []syntax.Pos
	for _, w := range c.Args {
		text, ok := literal(w)
		if !ok {
			text = "" // computed
		}
		args, places = append(args, text), append(places, w.Pos())
		if text != "" {
			r.words = append(r.words, text)
		} else {
			r.literals(w)
		}
	}
	for len(args) > 1 && (slices.Contains(wrappers, args[0]) || strings.Contains(args[0], "=")) {
		args, places = args[1:], places[1:]
		for len(args) > 1 && (strings.HasPrefix(args[0], "-") || strings.Contains(args[0], "=")) {
			args, places = args[1:], places[1:]
		}
	}
	if len(args) == 0 || args[0] == "" {
		return
	}
	name := args[0]
	r.called = append(r.called, called{name, int(places[0].Line())})
	plain := func() (list []int) {
		for i := 1; i < len(args); i++ {
			if args[i] != "" && !strings.HasPrefix(args[i], "-") {
				list = append(list, i)
			}
		}
		return list
	}
	switch {
	case name == "cd" || name == "pushd":
		r.change(args, places)
	case name == "test" || name == "[":
		for _, i := range plain() {
			r.guard(args[i])
		}
	case name == "chmod":
		for _, i := range plain() {
			if r.dir != "" {
				r.modes[path.Join(r.dir, args[i])] = true
			}
		}
	case name == "cat" || name == "cp" && len(plain()) == 2:
		for n, i := range plain() {
			if name == "cat" || n == 0 {
				r.need(input, args[i], places[i])
			}
		}
	case name == "make":
		r.make(args, places)
	case slices.Contains(interpreters, name):
		if list := plain(); len(list) > 0 && list[0] == 1 &&
			(name != "." && name != "source" || strings.Contains(args[1], "/")) {
			r.need(input, args[1], places[1])
		}
		r.opaque = name
	case strings.Contains(name, "/"):
		r.need(program, name, places[0])
		r.opaque = name
	case !slices.Contains(known, name):
		r.opaque = name
	}
}

// literals notes the fixed pieces of a computed word: "out/$NAME.apk" mentions out/.
func (r *reader) literals(w *syntax.Word) {
	syntax.Walk(w, func(n syntax.Node) bool {
		switch p := n.(type) {
		case *syntax.Lit:
			r.words = append(r.words, p.Value)
		case *syntax.SglQuoted:
			r.words = append(r.words, p.Value)
		case *syntax.CmdSubst:
			was := r.dir
			r.stmts(p.Stmts)
			r.dir = was
			return false
		}
		return true
	})
}

func (r *reader) change(args []string, places []syntax.Pos) {
	if len(args) < 2 || args[1] == "" || args[1] == "-" || path.IsAbs(args[1]) || r.dir == "" {
		r.dir = ""
		return
	}
	r.need(folder, args[1], places[1])
	if r.dir = path.Join(r.dir, args[1]); r.dir == ".." || strings.HasPrefix(r.dir, "../") {
		r.dir = ""
	}
}

func (r *reader) make(args []string, places []syntax.Pos) {
	dir := r.dir
	defer func() { r.opaque = "make" }()
	if dir == "" {
		return
	}
	target, line := "", places[0].Line()
	for i := 1; i < len(args); i++ {
		switch a := args[i]; {
		case a == "-C" && i+1 < len(args):
			i++
			if args[i] == "" || path.IsAbs(args[i]) {
				return
			}
			dir = path.Join(dir, args[i])
		case a == "-f" || strings.HasPrefix(a, "--file") || strings.HasPrefix(a, "--directory") ||
			strings.HasPrefix(a, "--makefile"):
			return
		case a == "" || strings.HasPrefix(a, "-") || strings.Contains(a, "="):
		case target == "" && !(i > 1 && args[i-1] == "-j"):
			target, line = a, places[i].Line()
		}
	}
	r.uses = append(r.uses,
		use{kind: makes, path: dir, target: target, word: "make", dir: r.dir, line: int(line), after: r.opaque})
}

func (r *reader) need(kind useKind, word string, at syntax.Pos) {
	clean := path.Join(r.dir, word)
	switch {
	case r.dir == "" || word == "" || word == "-" || path.IsAbs(word) || strings.HasPrefix(word, "-"):
		return
	case clean == ".." || strings.HasPrefix(clean, "../"):
		return
	case r.guarded[clean]:
		return
	}
	r.uses = append(r.uses, use{kind: kind, path: clean, word: word, dir: r.dir, line: int(at.Line()), after: r.opaque})
}

func (r *reader) guard(word string) {
	if r.dir != "" {
		r.guarded[path.Join(r.dir, word)] = true
	}
}
