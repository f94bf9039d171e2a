// Package condition evaluates the conditions of pipeline files: expressions of the Common Expression Language
// (CEL, https://github.com/google/cel-spec, language definition) over what is known of an event and of earlier jobs.
//
// An expression is checked when it is compiled, must give true or false, and is stopped when it costs too much. It
// computes only: it reaches no file, clock or network.
package condition

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/bmatcuk/doublestar/v4"
)

// MaxLength is the most bytes an expression may have.
const MaxLength = 4 << 10

// maxCost bounds an evaluation, in CEL's cost units; a comparison is one.
const maxCost = 1_000_000

// Facts is what an expression may ask about. Lists and maps that are nil count as empty.
type Facts struct {
	Trigger string            `json:"trigger"`
	Branch  string            `json:"branch"`
	Tag     string            `json:"tag"`
	Commit  string            `json:"commit"`
	Subject string            `json:"subject"`
	Author  string            `json:"author"`
	Target  string            `json:"target"`
	Trusted bool              `json:"trusted"`
	Changed []string          `json:"changed"`
	Input   map[string]any    `json:"input"`   // text as string, numbers as float64, flags as bool
	Variant map[string]string `json:"variant"` // of the job that asks
	Job     map[string]string `json:"job"`     // state of each earlier job, by name
}

// Word is a name that an expression may use, for the reference.
type Word struct{ Name, Type, Means string }

// Words lists the names an expression may use.
var Words = []Word{
	{"trigger", "text", "what started the run: push, tag, proposal, schedule, pipeline or person"},
	{"branch", "text", "the branch, or \"\""},
	{"tag", "text", "the tag, or \"\""},
	{"target", "text", "the branch a proposal wants into, or \"\""},
	{"trusted", "true or false", "false for a proposal from outside"},
	{"commit", "text", "the commit's id"},
	{"subject", "text", "first line of the commit's message"},
	{"author", "text", "the commit's author"},
	{"changed", "list of texts",
		"paths that changed since this pipeline last saw the branch; `changed.within(\"core/**\")` asks whether any " +
			"matches a glob"},
	{"input", "table", "the inputs, by name: `input.channel == \"beta\"`"},
	{"variant", "table", "the values of this variant: `variant.ABI == \"x86_64\"`"},
	{"job", "table", "the states of jobs this one comes after: `job.core == \"failed\"`"},
}

var environment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(append(shared(),
		cel.Variable("trigger", cel.StringType), cel.Variable("branch", cel.StringType), cel.Variable("tag", cel.StringType),
		cel.Variable("target", cel.StringType), cel.Variable("trusted", cel.BoolType), cel.Variable("commit", cel.StringType),
		cel.Variable("subject", cel.StringType), cel.Variable("author", cel.StringType),
		cel.Variable("changed", cel.ListType(cel.StringType)),
		cel.Variable("input", cel.MapType(cel.StringType, cel.DynType)),
		cel.Variable("variant", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("job", cel.MapType(cel.StringType, cel.StringType)),
	)...)
})

// shared is what all expressions have besides names.
func shared() []cel.EnvOption {
	return []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true),
		cel.ParserRecursionLimit(64), cel.ParserExpressionSizeLimit(MaxLength),
		cel.Function("within",
			cel.MemberOverload("list_within_glob", []*cel.Type{cel.ListType(cel.StringType), cel.StringType}, cel.BoolType,
				cel.BinaryBinding(within))),
	}
}

// maxBraces bounds the braces of a glob, each of which multiplies the ways to match.
const maxBraces = 3

func within(list, glob ref.Val) ref.Val {
	paths, ok := list.(traits.Lister)
	pattern, isText := glob.Value().(string)
	if !ok || !isText || strings.Count(pattern, "{") > maxBraces || !doublestar.ValidatePattern(pattern) {
		return types.NewErr("within takes a glob, and %v is none", glob.Value())
	}
	for it := paths.Iterator(); it.HasNext() == types.True; {
		if name, ok := it.Next().Value().(string); ok && doublestar.MatchUnvalidated(pattern, name) {
			return types.True
		}
	}
	return types.False
}

// withinCost charges for what is compared: without it a call is one unit, however long the list.
type withinCost struct{}

// comparedPerUnit is how many paths are matched for one unit of cost.
const comparedPerUnit = 10

// CallCost implements interpreter.ActualCostEstimator.
func (withinCost) CallCost(function, _ string, args []ref.Val, _ ref.Val) *uint64 {
	if function != "within" || len(args) == 0 {
		return nil
	}
	list, ok := args[0].(traits.Sizer)
	if !ok {
		return nil
	}
	size, ok := list.Size().(types.Int)
	if !ok {
		return nil
	}
	cost := uint64(size)/comparedPerUnit + 1
	return &cost
}

// Error is what is wrong with an expression, and where: columns count characters of the expression, from 1.
type Error struct {
	Col     int
	Message string
}

func (e *Error) Error() string { return e.Message }

// Condition is a checked expression.
type Condition struct {
	Text    string
	program cel.Program
	asks    map[string][]string
}

// Compile checks an expression. The error is an *Error.
func Compile(text string) (*Condition, error) { return compile(environment, text) }

func compile(environment func() (*cel.Env, error), text string) (*Condition, error) {
	if len(text) > MaxLength {
		return nil, &Error{1, fmt.Sprintf("the condition has %d bytes; it may have %d", len(text), MaxLength)}
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	checked, issues := env.Compile(text)
	if issues != nil && issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, &Error{max(1, first.Location.Column()+1),
			"the condition does not hold together: " + oneLine(first.Message)}
	}
	if t := checked.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return nil, &Error{1, fmt.Sprintf("a condition must be true or false, and this one is of type %s", t)}
	}
	program, err := env.Program(checked, cel.CostLimit(maxCost), cel.CostTracking(withinCost{}))
	if err != nil {
		return nil, &Error{1, oneLine(err.Error())}
	}
	return &Condition{Text: text, program: program, asks: asked(checked.NativeRep())}, nil
}

// asked collects the keys an expression reads from input, variant and job, and the other names it uses.
func asked(checked *ast.AST) map[string][]string {
	asks := map[string][]string{}
	add := func(table, name string) {
		if !slices.Contains(asks[table], name) {
			asks[table] = append(asks[table], name)
		}
	}
	ast.PostOrderVisit(checked.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.IdentKind:
			add("", e.AsIdent())
		case ast.SelectKind:
			if s := e.AsSelect(); s.Operand().Kind() == ast.IdentKind {
				add(s.Operand().AsIdent(), s.FieldName())
			}
		case ast.CallKind:
			c := e.AsCall()
			if c.FunctionName() == "_[_]" && c.Args()[0].Kind() == ast.IdentKind && c.Args()[1].Kind() == ast.LiteralKind {
				if name, ok := c.Args()[1].AsLiteral().Value().(string); ok {
					add(c.Args()[0].AsIdent(), name)
				}
			}
		}
	}))
	return asks
}

// Asks lists the keys the expression reads from a table (input, variant or job), in order; with "" the names it uses.
func (c *Condition) Asks(table string) []string {
	names := slices.Clone(c.asks[table])
	sort.Strings(names)
	return names
}

// ErrTooCostly says that an evaluation was stopped.
var ErrTooCostly = errors.New("the condition takes too much computing; make it simpler")

// Holds evaluates the expression.
func (c *Condition) Holds(f Facts) (bool, error) {
	return c.holds(map[string]any{
		"trigger": f.Trigger, "branch": f.Branch, "tag": f.Tag, "target": f.Target, "trusted": f.Trusted, "commit": f.Commit,
		"subject": f.Subject, "author": f.Author, "changed": orEmpty(f.Changed), "input": orNone(f.Input),
		"variant": orNone(f.Variant), "job": orNone(f.Job)})
}

func (c *Condition) holds(values map[string]any) (bool, error) {
	value, _, err := c.program.Eval(values)
	if err != nil {
		if strings.Contains(err.Error(), "cost limit exceeded") {
			return false, ErrTooCostly
		}
		return false, fmt.Errorf("the condition %q cannot be answered: %s", c.Text, oneLine(err.Error()))
	}
	yes, ok := value.Value().(bool)
	if !ok {
		return false, fmt.Errorf("the condition %q is neither true nor false, but %v", c.Text, value.Value())
	}
	return yes, nil
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func orNone[V any](m map[string]V) map[string]V {
	if m == nil {
		return map[string]V{}
	}
	return m
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
