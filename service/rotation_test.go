package service

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A rotation goes over every value that is kept, not only over those in use.
func TestARotationSealsEveryValueThatIsKept(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	planned(t, s, twoJobs)
	addProject(t, s, "q")
	for range 53 {
		_, err := s.Secrets.SetSecret(ctx, "q", "ada", "KEY", textSecret("the secret value"))
		require.NoError(t, err)
	}
	before, err := s.Store.SealedToOthers(ctx, "nobody", 100)
	require.NoError(t, err)
	out, err := s.Vault.RotateMaster(ctx)
	require.NoError(t, err)
	assert.Equal(t, 12, out.Sealed, "the ten values that are kept, and two hook keys")
	assert.Len(t, before, out.Sealed)
	left, err := s.Store.SealedToOthers(ctx, out.Recipient, 100)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left to the former master")
	hook, err := s.Projects.HookKey(ctx, "q")
	require.NoError(t, err)
	assert.Equal(t, "whsec_x", hook.Key)
}
