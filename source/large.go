package source

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path"
	"strings"
	"syscall"
	"time"

	"gentlepiston.example/piston/core/pointer"
	"gentlepiston.example/piston/core/reach"
)

// Large opens a file that a repository keeps beside itself: in a folder of this machine where its remote is one, else
// as its remote serves it. ErrNoObject when it has none such. Whoever reads it has yet to see whether it is what its id
// says.
func (r Repo) Large(ctx context.Context, remote string, p pointer.Pointer) (io.ReadCloser, error) {
	if !pointer.IsID(p.ID) {
		return nil, fmt.Errorf("%q is %w", p.ID, ErrNoObject)
	}
	if !IsLocal(remote) {
		return largeBy(remote).open(ctx, p)
	}
	dir, err := os.OpenRoot(r.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	f, err := dir.Open(path.Join("lfs", "objects", p.ID[:2], p.ID[2:4], p.ID))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the large file %.12s is %w", p.ID, ErrNoObject)
	}
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() || info.Size() != p.Size {
		f.Close()
		return nil, fmt.Errorf("the large file %.12s of %d bytes is %w", p.ID, p.Size, ErrNoObject)
	}
	return f, nil
}

// largeServer is the part of a remote that serves large files (Git LFS specification, Batch API and Basic Transfers).
type largeServer struct {
	batch string
	host  string // of the remote
	http  *http.Client
}

// answerWithin bounds how long a remote may take to begin an answer.
const answerWithin = 30 * time.Second

// maxBatch is the most that is read of what a remote answers to the question where a file is.
const maxBatch = 1 << 20

// largeBy finds where a remote serves large files (Git LFS specification, Server Discovery).
func largeBy(remote string) *largeServer {
	base := strings.TrimSuffix(remote, "/")
	if !strings.HasSuffix(base, ".git") {
		base += ".git"
	}
	s := &largeServer{batch: base + "/info/lfs/objects/batch"}
	if u, err := url.Parse(remote); err == nil {
		s.host = u.Hostname()
	}
	s.http = &http.Client{
		Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: s.dial, ResponseHeaderTimeout: answerWithin,
			DisableKeepAlives: true},
	}
	return s
}

// dial keeps what a remote names from leading inside: besides its own host only the world is spoken to.
func (s *largeServer) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: answerWithin}
	if host, _, err := net.SplitHostPort(address); err != nil || host != s.host && !isProxy(address) {
		d.ControlContext = func(_ context.Context, _, at string, _ syscall.RawConn) error {
			if to, err := netip.ParseAddrPort(at); err != nil || !reach.World(to.Addr()) {
				return fmt.Errorf("the remote says that the file is at %s, which is inside", address)
			}
			return nil
		}
	}
	return d.DialContext(ctx, network, address)
}

// isProxy tells whether an address is that of the proxy which the machine goes out by.
func isProxy(address string) bool {
	for _, scheme := range []string{"http", "https"} {
		proxy, err := http.ProxyFromEnvironment(&http.Request{URL: &url.URL{Scheme: scheme, Host: "world.example"}})
		if err == nil && proxy != nil && proxy.Host == address {
			return true
		}
	}
	return false
}

// located is what a remote says of a file.
type located struct {
	Objects []struct {
		Actions struct {
			Download struct {
				Href   string            `json:"href"`
				Header map[string]string `json:"header"`
			} `json:"download"`
		} `json:"actions"`
		Error *struct {
			Code    int    `json:"code"`
			Message string `json:"message"`
		} `json:"error"`
	} `json:"objects"`
}

func (s *largeServer) open(ctx context.Context, p pointer.Pointer) (io.ReadCloser, error) {
	there, err := s.locate(ctx, p)
	if err != nil {
		return nil, err
	}
	o := there.Objects[0]
	if o.Error != nil {
		return nil, fmt.Errorf("the large file %.12s is %w: the remote says %d, %s", p.ID, ErrNoObject, o.Error.Code,
			clean(o.Error.Message, 200))
	}
	at, err := url.Parse(o.Actions.Download.Href)
	if err != nil || at.Scheme != "https" && at.Scheme != "http" {
		return nil, fmt.Errorf("the large file %.12s is %w: the remote names no address of it", p.ID, ErrNoObject)
	}
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	for name, value := range o.Actions.Download.Header {
		ask.Header.Set(name, value)
	}
	answer, err := s.http.Do(ask)
	if err != nil {
		return nil, fmt.Errorf("fetching the large file %.12s: %w", p.ID, err)
	}
	if answer.StatusCode != http.StatusOK {
		answer.Body.Close()
		return nil, fmt.Errorf("fetching the large file %.12s: %s answers %s", p.ID, at.Host, answer.Status)
	}
	return answer.Body, nil
}

func (s *largeServer) locate(ctx context.Context, p pointer.Pointer) (there located, err error) {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	text, err := json.Marshal(map[string]any{"operation": "download", "transfers": []string{"basic"},
		"hash_algo": "sha256",
		"objects":   []map[string]any{{"oid": p.ID, "size": p.Size}}})
	if err != nil {
		return there, err
	}
	ask, err := http.NewRequestWithContext(ctx, http.MethodPost, s.batch, bytes.NewReader(text))
	if err != nil {
		return there, err
	}
	ask.Header.Set("Content-Type", "application/vnd.git-lfs+json")
	ask.Header.Set("Accept", "application/vnd.git-lfs+json")
	answer, err := s.http.Do(ask)
	if err != nil {
		return there, fmt.Errorf("asking for the large file %.12s: %w", p.ID, err)
	}
	defer answer.Body.Close()
	switch {
	case answer.StatusCode >= 400 && answer.StatusCode < 500:
		return there, fmt.Errorf("the large file %.12s is %w: the remote answers %s", p.ID, ErrNoObject, answer.Status)
	case answer.StatusCode != http.StatusOK:
		return there, fmt.Errorf("asking for the large file %.12s: the remote answers %s", p.ID, answer.Status)
	}
	err = json.NewDecoder(io.LimitReader(answer.Body, maxBatch)).Decode(&there)
	if err != nil || len(there.Objects) != 1 {
		return there, fmt.Errorf("the large file %.12s is %w: the remote answers something else", p.ID, ErrNoObject)
	}
	return there, nil
}
