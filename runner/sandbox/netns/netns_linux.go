// Package netns makes networks for jobs: a namespace with a loopback of its own and a way to the world through
// slirp4netns, which knows no way to the host's loopback. What is inside the machine's or the house's networks is
// unreachable there; what the runner's owner lets through is passed on by the runner, address by address and port by
// port.
package netns

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/core/reach"
)

// The network that slirp4netns makes: in a range for benchmarks of networks (RFC 2544), which no house has.
const (
	cidr    = "198.18.255.0/24"
	Gateway = "198.18.255.2"
	// DNS is where names are looked up, by the host's own way.
	DNS = "198.18.255.3"
)

// Network is one namespace, and the processes that serve it.
type Network struct {
	net, user *os.File // the namespaces; user is nil when the runner is root
	slirp     *exec.Cmd
	exit      *os.File // closing it ends slirp4netns
	passing   []net.Listener
	work      sync.WaitGroup
}

// Maker makes networks.
type Maker struct {
	Program []string // the command that prepares a namespace from within (see Prepare)
	Policy  reach.Policy
	slirp   string
}

// ErrNoSlirp says that slirp4netns is not to be had.
var ErrNoSlirp = errors.New("slirp4netns is not installed")

// tun is the device by which a network is given packets.
const tun = "/dev/net/tun"

// Find looks for what is needed.
func (m *Maker) Find() (err error) {
	if len(m.Program) == 0 {
		return errors.New("there is no program to prepare one")
	}
	m.slirp, err = exec.LookPath("slirp4netns")
	if err != nil {
		return ErrNoSlirp
	}
	if err := unix.Access(tun, unix.R_OK|unix.W_OK); err != nil {
		return fmt.Errorf("%s: %w; is it there, and open to everybody, as it usually is (chmod 666)?", tun, err)
	}
	return nil
}

// makeWithin bounds the making of a network.
const makeWithin = 10 * time.Second

// plan is what is told to the process that prepares the namespace.
type plan struct {
	Inner   []netip.Prefix   // unreachable
	Through []netip.Prefix   // reachable all the same
	Listen  []netip.AddrPort // passed on by the runner
}

// target is what is passed on: as a step names it, and where it is.
type target struct {
	at netip.AddrPort
	to string
}

// Make makes a network. Close it.
func (m *Maker) Make(ctx context.Context) (n *Network, err error) {
	ctx, cancel := context.WithTimeout(ctx, makeWithin)
	defer cancel()
	p, targets := m.plan(ctx)
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	defer ours.Close()
	cmd := exec.CommandContext(ctx, m.Program[0], m.Program[1:]...)
	cmd.Env, cmd.Dir, cmd.ExtraFiles = []string{}, "/", []*os.File{theirs}
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Setpgid: true}
	if uid := os.Geteuid(); uid != 0 {
		cmd.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
		// slirp4netns becomes the namespace's root, who is the runner's own user to the host.
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: uid, Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}}
	}
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	err = cmd.Start()
	theirs.Close()
	if err != nil {
		return nil, fmt.Errorf("a network namespace: %w", err)
	}
	defer func() { _ = cmd.Wait() }()
	defer cancel() // it has nothing left to do
	stop := context.AfterFunc(ctx, func() { _ = ours.SetDeadline(time.Now()) })
	defer stop()
	n = &Network{}
	defer func() {
		if err != nil {
			n.Close()
			n, err = nil, fmt.Errorf("making a network: %w: %s", err, bytes.TrimSpace(complaint.Bytes()))
		}
	}()
	if err := n.open(cmd.Process.Pid); err != nil {
		return n, err
	}
	if err := n.startSlirp(ctx, m.slirp, cmd.Process.Pid); err != nil {
		return n, err
	}
	text, err := json.Marshal(p)
	if err != nil {
		return n, err
	}
	if _, err := ours.Write(text); err != nil {
		return n, err
	}
	listeners, err := receive(ours, len(p.Listen))
	if err != nil {
		return n, err
	}
	for i, l := range listeners {
		n.passing = append(n.passing, l)
		n.work.Go(func() { n.pass(l, targets[i].to) })
	}
	return n, nil
}

// plan says what is unreachable and what is passed on. A name that is let through is looked up now.
func (m *Maker) plan(ctx context.Context) (p plan, targets []target) {
	p.Inner = reach.Inner()
	for _, a := range m.Policy.Through {
		switch {
		case a.Name != "":
			list, err := net.DefaultResolver.LookupNetIP(ctx, "ip4", a.Name)
			if err != nil {
				continue // it is not there now; a step will say so
			}
			for _, ip := range list {
				at := netip.AddrPortFrom(ip.Unmap(), a.Port)
				targets = append(targets, target{at, at.String()})
			}
		case !a.Range.Addr().Is4():
			// slirp4netns is given IPv4 only
		case a.Port != 0 && a.Range.IsSingleIP():
			at := netip.AddrPortFrom(a.Range.Addr(), a.Port)
			targets = append(targets, target{at, at.String()})
		case a.Port == 0 && !a.Range.Addr().IsLoopback():
			p.Through = append(p.Through, a.Range)
		}
	}
	for _, t := range targets {
		p.Listen = append(p.Listen, t.at)
	}
	return p, targets
}

// pair is two ends of a connection over which files can be given.
func pair() (ours *net.UnixConn, theirs *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	file := os.NewFile(uintptr(fds[0]), "netns")
	defer file.Close()
	c, err := net.FileConn(file)
	if err != nil {
		unix.Close(fds[1])
		return nil, nil, err
	}
	return c.(*net.UnixConn), os.NewFile(uintptr(fds[1]), "netns"), nil
}

// open holds the namespaces of a process, which live as long as somebody does.
func (n *Network) open(pid int) (err error) {
	if n.net, err = os.Open(fmt.Sprintf("/proc/%d/ns/net", pid)); err != nil {
		return err
	}
	if os.Geteuid() != 0 {
		n.user, err = os.Open(fmt.Sprintf("/proc/%d/ns/user", pid))
	}
	return err
}

// startSlirp gives the namespace of a process its way out.
func (n *Network) startSlirp(ctx context.Context, program string, pid int) error {
	readyOut, readyIn, err := os.Pipe()
	if err != nil {
		return err
	}
	defer readyOut.Close()
	exitOut, exitIn, err := os.Pipe()
	if err != nil {
		readyIn.Close()
		return err
	}
	n.exit = exitIn
	args := []string{"--configure", "--mtu=65520", "--disable-host-loopback", "--cidr=" + cidr, "--enable-seccomp",
		"--enable-sandbox",
		"--ready-fd=3", "--exit-fd=4"}
	if n.user != nil {
		args = append(args, fmt.Sprintf("--userns-path=/proc/%d/ns/user", pid))
	}
	var said bytes.Buffer
	n.slirp = exec.Command(program, append(args, strconv.Itoa(pid), "tap0")...)
	n.slirp.ExtraFiles = []*os.File{readyIn, exitOut}
	n.slirp.Stdout, n.slirp.Stderr = &said, &said
	n.slirp.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	err = n.slirp.Start()
	readyIn.Close()
	exitOut.Close()
	if err != nil {
		n.slirp = nil
		return err
	}
	if deadline, ok := ctx.Deadline(); ok {
		_ = readyOut.SetReadDeadline(deadline)
	}
	if _, err := io.ReadFull(readyOut, make([]byte, 1)); err != nil {
		return fmt.Errorf("slirp4netns: %w: %s", err, strings.TrimSpace(said.String()))
	}
	return nil
}

// receive takes the listeners that the namespace's process has opened in it.
func receive(c *net.UnixConn, count int) (list []net.Listener, err error) {
	buf, oob := make([]byte, 4096), make([]byte, unix.CmsgSpace(4*max(count, 1)))
	k, oobn, _, _, err := c.ReadMsgUnix(buf, oob)
	if err != nil {
		return nil, err
	}
	if said := string(buf[:k]); said != done {
		return nil, errors.New(said)
	}
	messages, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil {
		return nil, err
	}
	for _, m := range messages {
		fds, err := unix.ParseUnixRights(&m)
		if err != nil {
			return nil, err
		}
		for _, fd := range fds {
			f := os.NewFile(uintptr(fd), "passed")
			l, err := net.FileListener(f)
			f.Close()
			if err != nil {
				return nil, err
			}
			list = append(list, l)
		}
	}
	if len(list) != count {
		return nil, fmt.Errorf("%d of %d addresses can be passed on", len(list), count)
	}
	return list, nil
}

// pass gives connections in the namespace on to where they are let through to.
func (n *Network) pass(l net.Listener, to string) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		n.work.Go(func() {
			defer c.Close()
			there, err := net.DialTimeout("tcp", to, 10*time.Second)
			if err != nil {
				return
			}
			defer there.Close()
			var both sync.WaitGroup
			both.Go(func() { _, _ = io.Copy(there, c); closeWrite(there) })
			both.Go(func() { _, _ = io.Copy(c, there); closeWrite(c) })
			both.Wait()
		})
	}
}

func closeWrite(c net.Conn) {
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.CloseWrite()
	}
}

// Enter moves the calling thread into the network; it must be locked to its goroutine. Only root may.
func (n *Network) Enter() error { return unix.Setns(int(n.net.Fd()), unix.CLONE_NEWNET) }

// Wrap makes a command one that begins in the network, for a runner that is not root: by nsenter (util-linux). files
// are its further ones, the first of which it finds by the number first.
func (n *Network) Wrap(argv []string, files []*os.File, first int) ([]string, []*os.File) {
	if n.user == nil {
		return argv, files
	}
	at := func(i int) string { return fmt.Sprintf("/proc/self/fd/%d", first+len(files)+i) }
	enter := []string{"nsenter", "--user=" + at(0), "--net=" + at(1), "--preserve-credentials", "--"}
	return append(enter, argv...), append(files, n.user, n.net)
}

// Close ends all that serves the network.
func (n *Network) Close() {
	for _, l := range n.passing {
		l.Close()
	}
	if n.exit != nil {
		n.exit.Close()
	}
	if n.slirp != nil {
		ended := time.AfterFunc(time.Second, func() { _ = n.slirp.Process.Kill() })
		_ = n.slirp.Wait()
		ended.Stop()
	}
	for _, f := range []*os.File{n.net, n.user} {
		if f != nil {
			f.Close()
		}
	}
	n.work.Wait()
}
