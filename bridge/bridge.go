// Package bridge is a way for git to repositories that only a key opens. Git speaks its own protocol to it on loopback
// (gitprotocol-pack(5), Git Transport), and it speaks SSH (RFC 4251 to 4254) to the host: so the key stays in this
// process, git needs no other program, and no host is spoken to whose key is not known.
package bridge

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/reach"
)

// Bridge is one that is open.
type Bridge struct {
	Config
	listener net.Listener
	signer   ssh.Signer
	hosts    map[string][]ssh.PublicKey // by address
	ctx      context.Context            // ends what it does
	end      context.CancelFunc
	at       sync.WaitGroup

	mu   sync.Mutex
	ways map[string]reach.Keyed // by a name that nobody guesses
}

// Config says what a bridge is for.
type Config struct {
	// The only program of git's that is run at a host: Fetch or Push.
	Program string
	// A private SSH key without a passphrase, in PEM or OpenSSH's own form.
	Key []byte
	// The hosts' keys, each as ssh-keyscan prints it.
	Hosts []string
	// Where the hosts' keys stand, for those who have to add one.
	Where string
	// Dial connects to a host.
	Dial func(ctx context.Context, host string, port uint16) (net.Conn, error)
	// Refused is told what no second try mends, and gives it back.
	Refused func(error) error
}

// The programs.
const (
	Fetch = "git-upload-pack"
	Push  = "git-receive-pack"
)

// requestWithin bounds how long git may take to say what it wants.
const requestWithin = 10 * time.Second

// dialWithin bounds how long a host may take to let one in.
const dialWithin = 20 * time.Second

// maxRequest is the longest request read: git's own limit of a line (gitprotocol-common(5), pkt-line).
const maxRequest = 65520

// Open opens one. Close it.
func Open(ctx context.Context, c Config) (*Bridge, error) {
	signer, err := ssh.ParsePrivateKey(c.Key)
	if err != nil {
		return nil, fmt.Errorf("it is no private SSH key without a passphrase: %w", err)
	}
	b := &Bridge{Config: c, signer: signer, hosts: map[string][]ssh.PublicKey{}, ways: map[string]reach.Keyed{}}
	for _, entry := range c.Hosts {
		address, wire, err := definition.HostKey(entry)
		if err != nil {
			return nil, err
		}
		known, err := ssh.ParsePublicKey(wire)
		if err != nil {
			return nil, fmt.Errorf("the key of %s: %w", address, err)
		}
		b.hosts[address] = append(b.hosts[address], known)
	}
	if b.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	b.ctx, b.end = context.WithCancel(ctx)
	b.at.Go(b.accept)
	return b, nil
}

// Close ends it and what goes over it.
func (b *Bridge) Close() {
	b.end()
	b.listener.Close()
	b.at.Wait()
}

// Way gives the address on loopback that stands for one by ssh; ok tells whether it is one by ssh.
func (b *Bridge) Way(address string) (loopback string, ok bool, err error) {
	to, ok := reach.BySSH(address)
	if !ok {
		return "", false, nil
	}
	if strings.HasPrefix(to.Path, "-") || strings.ContainsAny(to.Path, "\x00\n") {
		return "", true, fmt.Errorf("%q is no path of a repository", to.Path)
	}
	if len(b.hosts[to.Host]) == 0 {
		return "", true, fmt.Errorf("%s: nothing names the key of the host %s: %s takes what ssh-keyscan prints",
			address, to.Host, b.Where)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for name, known := range b.ways {
		if known == to {
			return b.addressOf(name), true, nil
		}
	}
	name := rand.Text()
	b.ways[name] = to
	return b.addressOf(name), true, nil
}

func (b *Bridge) addressOf(name string) string {
	return "git://" + b.listener.Addr().String() + "/" + name
}

func (b *Bridge) accept() {
	for {
		c, err := b.listener.Accept()
		if err != nil {
			return
		}
		b.at.Go(func() {
			defer c.Close()
			stop := context.AfterFunc(b.ctx, func() { c.Close() })
			defer stop()
			if err := b.serve(c); err != nil && b.ctx.Err() == nil {
				text := fmt.Sprintf("ERR %v", err) // gitprotocol-pack(5), pkt-line "ERR"
				_, _ = fmt.Fprintf(c, "%04x%s", len(text)+4, text)
			}
		})
	}
}

// serve passes one fetch or push on.
func (b *Bridge) serve(c net.Conn) error {
	_ = c.SetReadDeadline(time.Now().Add(requestWithin))
	name, version, err := readRequest(c, b.Program)
	if err != nil {
		return err
	}
	_ = c.SetReadDeadline(time.Time{})
	b.mu.Lock()
	to, known := b.ways[name]
	b.mu.Unlock()
	if !known {
		return errors.New("nobody is to know this way")
	}
	client, err := b.dial(to)
	if err != nil {
		return err
	}
	defer client.Close()
	stop := context.AfterFunc(b.ctx, func() { client.Close() })
	defer stop()
	return b.run(client, to, version, c)
}

// dial connects to a host whose key is one of those that are known.
func (b *Bridge) dial(to reach.Keyed) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(b.ctx, dialWithin)
	defer cancel()
	_, portText, _ := net.SplitHostPort(to.Host)
	port, err := strconv.ParseUint(portText, 10, 16)
	if err != nil {
		return nil, b.Refused(fmt.Errorf("%s is no address", to.Host))
	}
	way, err := b.Dial(ctx, to.Host, uint16(port))
	if err != nil {
		return nil, b.Refused(err)
	}
	_ = way.SetDeadline(time.Now().Add(dialWithin))
	shown := false // whether the key of the project was
	c, channels, requests, err := ssh.NewClientConn(way, to.Host, b.config(to, &shown))
	if err != nil {
		way.Close()
		err = fmt.Errorf("%s: %w", to.Host, err)
		var stranger *strangeHost
		var network net.Error
		if errors.As(err, &stranger) || shown && !errors.As(err, &network) && !errors.Is(err, io.EOF) {
			return nil, b.Refused(err)
		}
		return nil, err
	}
	_ = way.SetDeadline(time.Time{})
	return ssh.NewClient(c, channels, requests), nil
}

// strangeHost says that a host shows a key that is none of those known.
type strangeHost struct{ shows, where string }

func (e *strangeHost) Error() string {
	return "it shows the key " + e.shows + ", which " + e.where + " does not name"
}

func (b *Bridge) config(to reach.Keyed, shown *bool) *ssh.ClientConfig {
	var algorithms []string
	for _, key := range b.hosts[to.Host] {
		if key.Type() == ssh.KeyAlgoRSA { // RFC 8332: signed with SHA-2
			algorithms = append(algorithms, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			algorithms = append(algorithms, key.Type())
		}
	}
	show := func() ([]ssh.Signer, error) {
		*shown = true
		return []ssh.Signer{b.signer}, nil
	}
	return &ssh.ClientConfig{
		User: to.User, Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(show)},
		HostKeyAlgorithms: algorithms, ClientVersion: "SSH-2.0-piston",
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			for _, known := range b.hosts[to.Host] {
				if bytes.Equal(known.Marshal(), key.Marshal()) {
					return nil
				}
			}
			return &strangeHost{ssh.FingerprintSHA256(key), b.Where}
		},
	}
}

// run runs git's own program at the host and passes bytes both ways.
func (b *Bridge) run(client *ssh.Client, to reach.Keyed, version string, c net.Conn) error {
	session, err := client.NewSession()
	if err != nil {
		return fmt.Errorf("%s: %w", to.Host, err)
	}
	defer session.Close()
	if version != "" {
		_ = session.Setenv("GIT_PROTOCOL", version) // a host that knows of none goes on with the oldest version
	}
	in, err := session.StdinPipe()
	if err != nil {
		return err
	}
	complaint := &headOf{most: 2000}
	session.Stdout, session.Stderr = c, complaint
	if err := session.Start(b.Program + " " + quoted(to.Path)); err != nil {
		return fmt.Errorf("%s: %w", to.Host, err)
	}
	b.at.Go(func() {
		_, _ = io.Copy(in, c) // it ends when git has all it wants, or is gone
		client.Close()
	})
	err = session.Wait()
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		return b.Refused(fmt.Errorf("%s refuses %s: %s", to.Host, to.Path,
			strings.TrimSpace(strings.ToValidUTF8(complaint.String(), ""))))
	}
	return err
}

// quoted makes one word of a text in the shell of the other side.
func quoted(text string) string {
	return "'" + strings.NewReplacer(`'`, `'\''`, `!`, `'\!'`).Replace(text) + "'"
}

// readRequest reads what git asks of a server of its own protocol: PROGRAM /NAME, then, each ended by NUL,
// the host, and behind another NUL what the client knows, such as version=2.
func readRequest(r io.Reader, program string) (name, version string, err error) {
	size := make([]byte, 4)
	if _, err := io.ReadFull(r, size); err != nil {
		return "", "", err
	}
	n, err := strconv.ParseUint(string(size), 16, 16)
	if err != nil || n < 5 || n > maxRequest {
		return "", "", errors.New("no request of git")
	}
	text := make([]byte, n-4)
	if _, err := io.ReadFull(r, text); err != nil {
		return "", "", err
	}
	parts := strings.Split(string(text), "\x00")
	name, ok := strings.CutPrefix(strings.TrimSuffix(parts[0], "\n"), program+" /")
	if !ok {
		return "", "", fmt.Errorf("only %s is passed on", program)
	}
	for _, part := range parts[1:] {
		if strings.HasPrefix(part, "version=") {
			version = part
		}
	}
	return name, version, nil
}

// headOf keeps how a text begins.
type headOf struct {
	bytes.Buffer
	most int
}

func (h *headOf) Write(p []byte) (int, error) {
	h.Buffer.Write(p[:min(len(p), max(h.most-h.Len(), 0))])
	return len(p), nil
}
