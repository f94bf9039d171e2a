package apk

import (
	"bytes"
	"context"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/mutate"
)

func TestEachKeyFollowsFromTheOneBefore(t *testing.T) {
	first, second, third := signer(t), signer(t), signer(t)
	once, err := Follow(nil, first, second.Leaf())
	require.NoError(t, err)
	twice, err := Follow(once, second, third.Leaf())
	require.NoError(t, err)
	list, err := Lineage(twice)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.True(t, list[0].Equal(first.Leaf()) && list[1].Equal(second.Leaf()) && list[2].Equal(third.Leaf()))
	_, err = Follow(once, first, third.Leaf())
	assert.ErrorIs(t, err, ErrLineage, "only the last key hands on")

	o := Options{MinSDK: 21, By: "test", Former: &first, Lineage: twice}
	file, _ := signed(t, unsigned(t, 100), third, o)
	assert.Equal(t, first.Leaf().Raw, verify(t, file, schemeV2).Raw)
	assert.Equal(t, third.Leaf().Raw, verify(t, file, schemeV3).Raw)
	for _, wrong := range []Options{{Former: &second, Lineage: twice}, {Former: &first, Lineage: once}, {Lineage: twice},
		{Former: &first, Lineage: []byte{}}, {Former: &first, Lineage: twice[:len(twice)-9]}} {
		f, err := os.Create(filepath.Join(t.TempDir(), "out.apk"))
		require.NoError(t, err)
		_, err = Sign(context.Background(), unsigned(t, 100), f, third, wrong)
		assert.ErrorIs(t, err, ErrLineage)
		require.NoError(t, f.Close())
	}
}

func TestNoLineageDoesHarmOrIsBelieved(t *testing.T) {
	first, second := signer(t), signer(t)
	good, err := Follow(nil, first, second.Leaf())
	require.NoError(t, err)
	mutate.Each(t, good, func(r *mathrand.Rand) int { return r.IntN(len(good)) }, func(b []byte) {
		list, err := Lineage(b)
		if err != nil || bytes.Equal(b, good) {
			return
		}
		// Flags are signed by the package, not by the key of before, and so is the first certificate.
		assert.True(t, list[1].Equal(second.Leaf()))
	})
}
