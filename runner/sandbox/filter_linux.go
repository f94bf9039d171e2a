package sandbox

import (
	"bytes"
	"encoding/binary"
	"runtime"
	"sync"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// abi is one way by which programs call the kernel, and the numbers by which they do.
type abi struct {
	arch    uint32   // AUDIT_ARCH_…
	foreign uint32   // numbers from here on are of yet another, which nothing needs; 0 none
	ioctl   uint32   // its second argument says what
	refused []uint32 // add_key, request_key, keyctl, perf_event_open, bpf, userfaultfd, io_uring_setup
}

// abis are those of a machine: a 64-bit processor runs 32-bit programs as well, whose numbers are others.
var abis = map[string][]abi{
	"amd64": {
		{unix.AUDIT_ARCH_X86_64, 0x40000000, 16, []uint32{248, 249, 250, 298, 321, 323, 425}},
		{unix.AUDIT_ARCH_I386, 0, 54, []uint32{286, 287, 288, 336, 357, 374, 425}},
	},
	"arm64": {
		{unix.AUDIT_ARCH_AARCH64, 0, 29, []uint32{217, 218, 219, 241, 280, 282, 425}},
		{unix.AUDIT_ARCH_ARM, 0, 54, []uint32{309, 310, 311, 364, 386, 388, 425}},
	},
}

// refused is what becomes of a call that is (seccomp(2)).
const refused = unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM)

// Where in what a filter is shown (seccomp(2), struct seccomp_data; little-endian) things are.
const callAt, archAt, secondArgumentAt = 0, 4, 24

// filterCalls keeps steps from calls that no namespace bounds and no build needs: kernel keyrings, in which whoever
// started the runner may keep keys; what looks into or programs the kernel; and typing on the terminal of a trial's
// shell (ioctl_tty(2)). It is a program as bubblewrap takes it, struct sock_filter after struct sock_filter; empty on
// other processors.
var filterCalls = sync.OnceValues(func() ([]byte, error) {
	program := filterProgram(abis[runtime.GOARCH])
	if program == nil {
		return nil, nil
	}
	raw, err := bpf.Assemble(program)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = binary.Write(&out, binary.NativeEndian, raw)
	return out.Bytes(), err
})

func filterProgram(list []abi) (program []bpf.Instruction) {
	if len(list) == 0 {
		return nil
	}
	program = append(program, bpf.LoadAbsolute{Off: archAt, Size: 4})
	for _, a := range list {
		part := a.filter()
		program = append(program, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: a.arch, SkipTrue: uint8(len(part))})
		program = append(program, part...)
	}
	return append(program, bpf.RetConstant{Val: refused})
}

// filter is the part for one ABI.
func (a abi) filter() []bpf.Instruction {
	part := []bpf.Instruction{bpf.LoadAbsolute{Off: callAt, Size: 4}}
	end := 1 + len(a.refused) + 6 // where it refuses
	if a.foreign > 0 {
		end++
		part = append(part, bpf.JumpIf{Cond: bpf.JumpGreaterOrEqual, Val: a.foreign, SkipTrue: uint8(end - 2)})
	}
	for _, call := range a.refused {
		part = append(part, bpf.JumpIf{Cond: bpf.JumpEqual, Val: call, SkipTrue: uint8(end - len(part) - 1)})
	}
	return append(part,
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: a.ioctl, SkipTrue: 1},
		bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW},
		bpf.LoadAbsolute{Off: secondArgumentAt, Size: 4}, // of the next two, either puts characters into a terminal's input
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.TIOCSTI, SkipTrue: 2},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.TIOCLINUX, SkipTrue: 1},
		bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW},
		bpf.RetConstant{Val: refused},
	)
}
