package checkout

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"gentlepiston.example/piston/core/reach"
)

// gate is the way by which git fetches what a repository names, such as submodules: a proxy of our own on loopback,
// which opens tunnels (RFC 9110, 9.3.6, CONNECT) to addresses that strangers may make us speak to, at the port of
// https, and does nothing else. It looks a name up itself and connects to what it has judged, so that a name cannot
// change between.
type gate struct {
	policy   reach.Policy
	listener net.Listener
	secret   string // so that nobody else on the machine uses it
	server   *http.Server
	tunnels  sync.WaitGroup
	lookUp   func(ctx context.Context, network, host string) ([]netip.Addr, error)
	upstream func(*http.Request) (*url.URL, error) // the proxy that the machine itself goes through, if any

	mu      sync.Mutex
	refused []string // what was, and why
}

// refusals tell what was refused so far, and why.
func (g *gate) refusals() []string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.refused)
}

func (g *gate) refuse(w http.ResponseWriter, why error) {
	http.Error(w, g.note(why).Error(), http.StatusForbidden)
}

// note remembers why something was refused.
func (g *gate) note(why error) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.refused = append(g.refused, why.Error())
	return why
}

// httpsPort is the only one that is spoken to.
const httpsPort = 443

// tunnelWithin bounds the opening of a tunnel.
const tunnelWithin = 20 * time.Second

func openGate(policy reach.Policy) (*gate, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	g := &gate{policy: policy, listener: l, secret: rand.Text(), lookUp: net.DefaultResolver.LookupNetIP,
		upstream: http.ProxyFromEnvironment}
	g.server = &http.Server{Handler: g, ReadHeaderTimeout: 10 * time.Second}
	g.tunnels.Go(func() { _ = g.server.Serve(l) }) // it ends with the listener
	return g, nil
}

func (g *gate) close() {
	g.server.Close()
	g.tunnels.Wait()
}

// address is what git is told of its proxy.
func (g *gate) address() string {
	return "http://piston:" + g.secret + "@" + g.listener.Addr().String()
}

// ServeHTTP implements http.Handler.
func (g *gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	given := r.Header.Get("Proxy-Authorization")
	want := "Basic " + base64.StdEncoding.EncodeToString([]byte("piston:"+g.secret))
	if subtle.ConstantTimeCompare([]byte(given), []byte(want)) != 1 {
		w.Header().Set("Proxy-Authenticate", `Basic realm="piston"`)
		http.Error(w, "this is the runner's own", http.StatusProxyAuthRequired)
		return
	}
	if r.Method != http.MethodConnect {
		g.refuse(w, fmt.Errorf("%s: only https addresses are fetched", r.URL.Redacted()))
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), tunnelWithin)
	defer cancel()
	there, err := g.dial(ctx, r.Host, httpsPort)
	if err != nil {
		g.refuse(w, err)
		return
	}
	here, rest, err := http.NewResponseController(w).Hijack()
	if err != nil {
		there.Close()
		return
	}
	_, _ = io.WriteString(here, "HTTP/1.1 200 Connection established\r\n\r\n")
	g.join(here, rest.Reader, there)
}

// join passes bytes both ways until one side has ended.
func (g *gate) join(here net.Conn, sent *bufio.Reader, there net.Conn) {
	defer here.Close()
	defer there.Close()
	done := make(chan struct{}, 2)
	pass := func(to io.Writer, from io.Reader) {
		_, _ = io.Copy(to, from)
		done <- struct{}{}
	}
	g.tunnels.Go(func() { pass(there, sent) })
	g.tunnels.Go(func() { pass(here, there) })
	<-done
	here.Close()
	there.Close()
	<-done
}

// errInner says that an address is not one of the world.
var errInner = errors.New("is not an address that a repository may make a runner speak to; only its owner can let " +
	"it through")

// dial connects to a host and port that may be spoken to; in the world that is one port.
func (g *gate) dial(ctx context.Context, to string, only uint16) (net.Conn, error) {
	host, portText, err := net.SplitHostPort(to)
	port, portErr := strconv.ParseUint(portText, 10, 16)
	if err != nil || portErr != nil {
		return nil, fmt.Errorf("%q is no address", to)
	}
	if g.policy.Named(host, uint16(port)) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", to)
	}
	addresses, err := g.addressesOf(ctx, host)
	beyond := g.beyond(to)
	if err != nil && beyond == nil {
		return nil, fmt.Errorf("%s: %w", host, err)
	}
	for _, a := range addresses {
		if !g.policy.May(a, uint16(port)) {
			return nil, fmt.Errorf("%s (%s) %w", host, a, errInner)
		}
		if reach.World(a) && uint16(port) != only {
			return nil, fmt.Errorf("%s: only the port of https is spoken to", to)
		}
	}
	if beyond != nil {
		return throughProxy(ctx, beyond, to)
	}
	last := fmt.Errorf("%s has no address", host)
	for _, a := range addresses {
		there, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp",
			netip.AddrPortFrom(a, uint16(port)).String())
		if err == nil {
			return there, nil
		}
		last = err
	}
	return nil, last
}

func (g *gate) addressesOf(ctx context.Context, host string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{a.Unmap()}, nil
	}
	list, err := g.lookUp(ctx, "ip", host)
	for i := range list {
		list[i] = list[i].Unmap()
	}
	return list, err
}

// beyond is the proxy by which the machine reaches an address; nil for none.
func (g *gate) beyond(to string) *url.URL {
	proxy, err := g.upstream(&http.Request{URL: &url.URL{Scheme: "https", Host: to}})
	if err != nil {
		return nil
	}
	return proxy
}

// throughProxy opens a tunnel by another proxy.
func throughProxy(ctx context.Context, proxy *url.URL, to string) (net.Conn, error) {
	c, err := (&net.Dialer{}).DialContext(ctx, "tcp", proxy.Host)
	if err != nil {
		return nil, fmt.Errorf("the proxy %s: %w", proxy.Host, err)
	}
	ask := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: to}, Host: to, Header: http.Header{}}
	if proxy.User != nil {
		password, _ := proxy.User.Password()
		ask.Header.Set("Proxy-Authorization",
			"Basic "+base64.StdEncoding.EncodeToString([]byte(proxy.User.Username()+":"+password)))
	}
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stop()
	if err := ask.Write(c); err != nil {
		c.Close()
		return nil, err
	}
	answer, err := http.ReadResponse(bufio.NewReaderSize(c, 1), ask)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("the proxy %s answers %s", proxy.Host, answer.Status)
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}
