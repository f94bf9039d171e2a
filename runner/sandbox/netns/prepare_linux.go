package netns

import (
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// done is what the process says that has prepared a namespace.
const done = "done"

// Prepare is what the process does that was started in a new namespace: it is told the plan over the file of number 3,
// sets the namespace up, and gives back what it listens at.
func Prepare() error {
	file := os.NewFile(3, "netns")
	c, err := net.FileConn(file)
	file.Close()
	if err != nil {
		return err
	}
	defer c.Close()
	u, ok := c.(*net.UnixConn)
	if !ok {
		return fmt.Errorf("this is started by a runner")
	}
	buf := make([]byte, 64<<10)
	k, err := u.Read(buf)
	if err != nil {
		return err
	}
	var p plan
	if err := json.Unmarshal(buf[:k], &p); err != nil {
		return err
	}
	fds, err := p.prepare()
	if err != nil {
		_, _ = u.Write([]byte(err.Error()))
		return nil
	}
	var rights []byte
	if len(fds) > 0 {
		rights = unix.UnixRights(fds...)
	}
	_, _, err = u.WriteMsgUnix([]byte(done), rights, nil)
	return err
}

func (p plan) prepare() (fds []int, err error) {
	lo, err := netlink.LinkByName("lo")
	if err != nil {
		return nil, err
	}
	if err := netlink.LinkSetUp(lo); err != nil {
		return nil, fmt.Errorf("loopback: %w", err)
	}
	for _, r := range p.Inner {
		if r.Addr().IsLoopback() {
			continue // its own
		}
		route := &netlink.Route{Dst: ipNet(r), Type: unix.RTN_UNREACHABLE}
		if err := netlink.RouteReplace(route); err != nil {
			return nil, fmt.Errorf("closing %s: %w", r, err)
		}
	}
	tap, err := netlink.LinkByName("tap0")
	if err != nil {
		return nil, err
	}
	for _, r := range p.Through {
		route := &netlink.Route{Dst: ipNet(r), Gw: net.ParseIP(Gateway), LinkIndex: tap.Attrs().Index}
		if err := netlink.RouteReplace(route); err != nil {
			return nil, fmt.Errorf("letting %s through: %w", r, err)
		}
	}
	for _, at := range p.Listen {
		fd, err := listen(lo, at)
		if err != nil {
			return nil, fmt.Errorf("passing %s on: %w", at, err)
		}
		fds = append(fds, fd)
	}
	return fds, nil
}

// listen opens a port at an address, which is made one of loopback's when it is not.
func listen(lo netlink.Link, at netip.AddrPort) (int, error) {
	if !at.Addr().IsLoopback() {
		address := &netlink.Addr{IPNet: ipNet(netip.PrefixFrom(at.Addr(), at.Addr().BitLen()))}
		if err := netlink.AddrReplace(lo, address); err != nil {
			return 0, err
		}
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return 0, err
	}
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err != nil {
		return 0, err
	}
	if err := unix.Bind(fd, &unix.SockaddrInet4{Port: int(at.Port()), Addr: at.Addr().As4()}); err != nil {
		return 0, err
	}
	return fd, unix.Listen(fd, 128)
}

func ipNet(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Masked().Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}
