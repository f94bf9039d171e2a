// Package world speaks HTTP to addresses that people have set: outlets, and whoever is told of what happens. It says
// nothing in the open, follows nobody elsewhere, and goes inside, to this machine or its network, only where that was
// allowed.
package world

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"

	"gentlepiston.example/piston/core/reach"
)

// Address checks where something may be: what is said to it must not go in the open. what is what it is of.
func Address(text, what string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" {
		return nil, fmt.Errorf("%.200q is no address of %s, such as https://store.example", text, what)
	}
	ip := net.ParseIP(u.Hostname())
	here := u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
	if u.Scheme != "https" && !(u.Scheme == "http" && here) {
		return nil, fmt.Errorf("%.200q would be spoken to in the open: use https, or http on this machine", text)
	}
	u.Path = strings.TrimSuffix(u.Path, "/")
	return u, nil
}

// anywhere and outside speak to whoever is at an address, and to nobody else; outside only to what is neither on this
// machine nor in its network. Something that answers is waited for; something that does not is away.
var anywhere, outside = speaker(nil), speaker(func(_, address string, _ syscall.RawConn) error {
	to, err := netip.ParseAddrPort(address)
	if err == nil && !reach.World(to.Addr().Unmap()) {
		err = fmt.Errorf("it is at %s, inside: what is there is set by an administrator", to.Addr())
	}
	return err
})

func speaker(may func(network, address string, c syscall.RawConn) error) *http.Client {
	return &http.Client{
		Transport: &http.Transport{
			Proxy:                 http.ProxyFromEnvironment,
			DialContext:           (&net.Dialer{Timeout: 10 * time.Second, Control: may}).DialContext,
			TLSHandshakeTimeout:   10 * time.Second,
			ResponseHeaderTimeout: 30 * time.Second,
			IdleConnTimeout:       30 * time.Second,
			MaxIdleConnsPerHost:   32,
		},
		CheckRedirect: func(req *http.Request, _ []*http.Request) error {
			return fmt.Errorf("it sends on to %.200s, where nothing is said to it: set that as its address if it is meant",
				req.URL)
		},
	}
}

// Speaker is by which an address is spoken to. Through a proxy, the proxy says what may be reached.
func Speaker(to *url.URL, inside bool) *http.Client {
	proxy, err := http.ProxyFromEnvironment(&http.Request{URL: to})
	if inside || err == nil && proxy != nil {
		return anywhere
	}
	return outside
}
