package source

import (
	"context"
	"encoding/base64"
	"net"
	"net/netip"
	"net/url"
	"strconv"

	"gentlepiston.example/piston/core/reach"
)

// Remote is where a landing is pushed, and what opens it.
type Remote struct {
	// A folder of this machine, or an address by https or ssh. One by http is only one of this machine, since the password
	// is to be read by nobody on the way.
	Address string
	Token   string // the password by https; "" for none
	Key     []byte // the private key by ssh
	Host    string // and the key of the host, as ssh-keyscan prints it
}

// bySSH tells whether it takes a key to push there.
func (r Remote) bySSH() bool {
	_, is := reach.BySSH(r.Address)
	return is && !IsLocal(r.Address)
}

func (r Remote) mayBePushedTo() bool {
	u, err := url.Parse(r.Address)
	return IsLocal(r.Address) || r.bySSH() ||
		err == nil && (u.Scheme == "https" || u.Scheme == "http" && isHere(u.Hostname()))
}

func isHere(host string) bool {
	at, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && at.IsLoopback()
}

// credentials are those of HTTP's Basic scheme (RFC 7617).
func (r Remote) credentials() string {
	return base64.StdEncoding.EncodeToString([]byte("piston:" + r.Token))
}

func dial(ctx context.Context, host string, port uint16) (net.Conn, error) {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		return nil, err
	}
	return new(net.Dialer).DialContext(ctx, "tcp", net.JoinHostPort(name, strconv.Itoa(int(port))))
}
