package fact

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOfEveryKindItIsSaidWhatFollows(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "fact.go", nil, 0)
	require.NoError(t, err)
	named := 0
	ast.Inspect(f, func(n ast.Node) bool {
		v, is := n.(*ast.ValueSpec)
		if !is || len(v.Values) != 1 {
			return true
		}
		if lit, is := v.Values[0].(*ast.BasicLit); is && lit.Kind == token.STRING {
			text, err := strconv.Unquote(lit.Value)
			require.NoError(t, err)
			assert.NotEqual(t, Follows{}, Kinds[Kind(text)], text)
			named++
		}
		return true
	})
	assert.Len(t, Kinds, named)
}

func TestWhatFollowsFromTwoFacts(t *testing.T) {
	both := Kinds[ProjectRemove].And(Kinds[RunChanged])
	assert.Equal(t, Follows{Audit: true, Console: true, Work: true, Runners: true}, both)
	assert.Equal(t, Kinds[RunGoesOn], Kinds[RunGoesOn].And(Follows{}))
}
