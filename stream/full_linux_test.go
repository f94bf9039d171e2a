package stream

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/disk"
)

// smallDisk mounts a file system of its own that holds little.
func smallDisk(t *testing.T, bytes string) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("small", dir, "tmpfs", 0, "size="+bytes); err != nil {
		t.Skipf("only who may mount a file system can have a full one: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// fill writes until nothing more fits, and tells the file that holds it.
func fill(t *testing.T, dir string) string {
	t.Helper()
	name := filepath.Join(dir, "filler")
	f, err := os.Create(name)
	require.NoError(t, err)
	defer f.Close()
	for block := make([]byte, 64<<10); ; {
		if _, err := f.Write(block); err != nil {
			require.ErrorIs(t, err, syscall.ENOSPC)
			return name
		}
	}
}

func TestAFullDiskIsSurvived(t *testing.T) {
	dir := smallDisk(t, "64m")
	s, err := Open(t.Context(), filepath.Join(dir, "stream"))
	require.NoError(t, err)
	defer s.Close()
	id := LogID{1, 1}
	text := make([]byte, 256<<10)
	for i := range text {
		text[i] = byte(i * i % 251) // so that packing it saves nothing
	}
	kept := int64(0)
	add := func() error {
		err := s.AppendLog(t.Context(), Batch{ID: id, First: kept + 1, Count: 1, Text: text})
		if err == nil {
			kept++
		}
		return err
	}
	require.NoError(t, add())
	woken, cancel, err := s.OnWake("jobs")
	require.NoError(t, err)
	defer cancel()
	filler := fill(t, dir)
	require.Eventually(t, func() bool { return add() != nil }, 30*time.Second, time.Millisecond)
	require.ErrorIs(t, add(), ErrFull)
	require.Eventually(t, func() bool { return s.Health() != nil }, 30*time.Second, 20*time.Millisecond)
	assert.ErrorContains(t, s.Health(), "disk is full")

	before := kept
	require.NoError(t, os.Remove(filler))
	space, err := disk.Of(dir)
	require.NoError(t, err)
	require.Greater(t, space.Free, int64(room))
	require.Eventually(t, func() bool { return add() == nil }, 60*time.Second, 100*time.Millisecond, "it goes on by itself")
	assert.Greater(t, kept, before)
	require.Eventually(t, func() bool { return s.Health() == nil }, 30*time.Second, 20*time.Millisecond)
	last, err := s.LastLine(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, kept, last, "and what was taken before is there")
	s.Wake("jobs")
	select {
	case <-woken:
	case <-time.After(10 * time.Second):
		t.Fatal("whoever waited for news before waits in vain")
	}
}
