package sandbox

import (
	"encoding/binary"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// verdict runs a filter on a call. The machine that runs it here reads its words big-endian, the kernel's does not.
func verdict(t *testing.T, filter *bpf.VM, arch, call, second uint32) uint32 {
	t.Helper()
	shown := make([]byte, 64)
	binary.BigEndian.PutUint32(shown[callAt:], call)
	binary.BigEndian.PutUint32(shown[archAt:], arch)
	binary.BigEndian.PutUint32(shown[secondArgumentAt:], second)
	n, err := filter.Run(shown)
	require.NoError(t, err)
	return uint32(n)
}

func TestWhichCallsAreRefused(t *testing.T) {
	for processor, list := range abis {
		filter, err := bpf.NewVM(filterProgram(list))
		require.NoError(t, err)
		for _, a := range list {
			out := map[uint32]bool{a.ioctl: true}
			for _, call := range a.refused {
				out[call] = true
				assert.EqualValues(t, refused, verdict(t, filter, a.arch, call, 0), "%s %#x %d", processor, a.arch, call)
			}
			for call := range uint32(1000) {
				if !out[call] {
					assert.EqualValues(t, unix.SECCOMP_RET_ALLOW, verdict(t, filter, a.arch, call, unix.TIOCSTI), "%s %#x %d", processor, a.arch, call)
				}
			}
			for request, want := range map[uint32]uint32{unix.TIOCGWINSZ: unix.SECCOMP_RET_ALLOW, unix.TIOCSTI: refused, unix.TIOCLINUX: refused} {
				assert.EqualValues(t, want, verdict(t, filter, a.arch, a.ioctl, request), "%s %#x ioctl %#x", processor, a.arch, request)
			}
			if a.foreign > 0 {
				assert.EqualValues(t, refused, verdict(t, filter, a.arch, a.foreign+1, 0))
			}
		}
		assert.EqualValues(t, refused, verdict(t, filter, unix.AUDIT_ARCH_PPC64, 1, 0), "of what is not known nothing is let through")
	}
	assert.Nil(t, filterProgram(abis["riscv64"]))
}

// The numbers of the processor this runs on are also those that its own library knows.
func TestTheNumbersOfCalls(t *testing.T) {
	list := abis[runtime.GOARCH]
	require.NotEmpty(t, list)
	assert.EqualValues(t, unix.SYS_IOCTL, list[0].ioctl)
	assert.Equal(t, []uint32{unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_KEYCTL, unix.SYS_PERF_EVENT_OPEN, unix.SYS_BPF, unix.SYS_USERFAULTFD, unix.SYS_IO_URING_SETUP}, list[0].refused)
	program, err := filterCalls()
	require.NoError(t, err)
	assert.Zero(t, len(program)%8, "struct sock_filter has eight bytes")
	assert.NotEmpty(t, program)
}
