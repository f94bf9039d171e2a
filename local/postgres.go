package local

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Postgres is a PostgreSQL server of our own, kept running on a loopback port.
type Postgres struct {
	dir    string // its data folder
	port   int
	bin    string
	cred   *syscall.Credential // whom it runs as; nil for ourselves
	log    *slog.Logger
	cancel context.CancelFunc
	done   chan struct{}

	mu  sync.Mutex
	pid int
}

// account is the user Debian's packages make for PostgreSQL, which refuses to run as root.
const account = "postgres"

// StartPostgres makes a database cluster below home if there is none, starts a server on it and watches over it:
// when the server dies it is started again. A server that a crash of ours left running is taken over. As root it
// runs as the user postgres; when that user cannot reach home, its folder is below /var/lib/piston instead.
func StartPostgres(ctx context.Context, home string, log *slog.Logger) (*Postgres, error) {
	bin, err := findPostgres()
	if err != nil {
		return nil, err
	}
	p := &Postgres{dir: filepath.Join(home, "postgres"), bin: bin, log: log, done: make(chan struct{})}
	if os.Geteuid() == 0 {
		if err := p.becomeAccount(home); err != nil {
			return nil, err
		}
	}
	if err := p.ensureCluster(ctx); err != nil {
		return nil, err
	}
	if p.port, err = p.choosePort(); err != nil {
		return nil, err
	}
	if err := p.adoptOrStart(ctx); err != nil {
		return nil, err
	}
	watch, cancel := context.WithCancel(context.Background())
	p.cancel = cancel
	go p.watch(watch)
	return p, nil
}

// DSN is the address for clients.
func (p *Postgres) DSN() string {
	return fmt.Sprintf("host=127.0.0.1 port=%d user=piston dbname=postgres password=%s sslmode=disable", p.port,
		p.password())
}

// Pid is the process id of the server's main process.
func (p *Postgres) Pid() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.pid
}

// Stop ends the server after its open transactions were rolled back (PostgreSQL's fast shutdown) and waits for it.
func (p *Postgres) Stop() {
	p.cancel()
	<-p.done
	pid := p.Pid()
	if pid == 0 {
		return
	}
	_ = syscall.Kill(pid, syscall.SIGINT)
	for range 600 {
		if syscall.Kill(pid, 0) != nil {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	p.log.Warn("PostgreSQL did not stop within 15 s; stopping it at once", "pid", pid)
	_ = syscall.Kill(pid, syscall.SIGQUIT)
}

func findPostgres() (string, error) {
	candidates, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	sort.Slice(candidates, func(i, j int) bool { return majorOf(candidates[i]) > majorOf(candidates[j]) })
	if path, err := exec.LookPath("postgres"); err == nil {
		candidates = append(candidates, filepath.Dir(path))
	}
	for _, bin := range candidates {
		if _, err := os.Stat(filepath.Join(bin, "initdb")); err == nil {
			return bin, nil
		}
	}
	return "", errors.New("no PostgreSQL server on this machine: install Debian's package postgresql, " +
		"or name a database elsewhere with --database")
}

func majorOf(bin string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(bin)))
	return n
}

func (p *Postgres) becomeAccount(home string) error {
	u, err := user.Lookup(account)
	if err != nil {
		return fmt.Errorf("PostgreSQL refuses to run as root and there is no user %s: install Debian's package "+
			"postgresql: %w", account, err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	p.cred = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if !p.reachable(home) {
		p.dir = placeOf(home)
		if err := os.MkdirAll(filepath.Dir(p.dir), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(home, elsewhere), []byte(p.dir+"\n"), 0o600); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(p.dir, 0o700); err != nil {
		return err
	}
	return os.Chown(p.dir, uid, gid)
}

// placeOf is where the cluster of a data folder is that its account cannot reach.
func placeOf(home string) string {
	sum := sha256.Sum256([]byte(home))
	return fmt.Sprintf("/var/lib/piston/postgres-%x", sum[:6])
}

// ForgetRemoved removes the cluster of a data folder that somebody has removed by hand, so that another of the same
// path begins anew. One that is there, or whose cluster runs, is left alone.
func ForgetRemoved(home string) error {
	if _, err := os.Lstat(home); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	place := placeOf(home)
	if _, err := os.Lstat(filepath.Join(place, "postmaster.pid")); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return os.RemoveAll(place)
}

// elsewhere is the file of a data folder that names the cluster's folder when that is not below it.
const elsewhere = "postgres.folder"

// runnersElsewhere is the file of the runner's folder that names where its jobs work, when that is not below it.
const runnersElsewhere = "runner/work.folder"

// RemoveFolder removes a data folder that nothing uses any more, with the cluster and the jobs' files that may lie
// elsewhere.
func RemoveFolder(home string) error {
	for _, file := range []string{elsewhere, runnersElsewhere} {
		if place, err := os.ReadFile(filepath.Join(home, file)); err == nil {
			if err := os.RemoveAll(strings.TrimSpace(string(place))); err != nil {
				return err
			}
		}
	}
	return os.RemoveAll(home)
}

// reachable asks the system whether the account may go into a folder.
func (p *Postgres) reachable(dir string) bool {
	cmd := exec.Command("/bin/sh", "-c", `cd "$1"`, "sh", dir)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: p.cred}
	return cmd.Run() == nil
}

func (p *Postgres) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(p.bin, name), args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: p.cred, Setpgid: true}
	return cmd
}

func (p *Postgres) passwordFile() string { return filepath.Join(p.dir, "piston.password") }

func (p *Postgres) password() string {
	text, _ := os.ReadFile(p.passwordFile())
	return strings.TrimSpace(string(text))
}

// ensureCluster runs initdb in a new folder beside the final one, so that a half-made cluster is never used.
func (p *Postgres) ensureCluster(ctx context.Context) error {
	data := p.data()
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		return nil
	}
	if err := os.MkdirAll(p.dir, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(p.passwordFile(), []byte(rand.Text()+"\n"), 0o600); err != nil {
		return err
	}
	if p.cred != nil {
		if err := os.Chown(p.passwordFile(), int(p.cred.Uid), int(p.cred.Gid)); err != nil {
			return err
		}
	}
	half := data + ".new"
	if err := os.RemoveAll(half); err != nil {
		return err
	}
	cmd := p.command(ctx, "initdb", "-D", half, "-U", "piston", "--pwfile", p.passwordFile(),
		"--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making a database cluster in %s: %w\n%s", half, err, bytes.TrimSpace(out))
	}
	return os.Rename(half, data)
}

func (p *Postgres) data() string { return filepath.Join(p.dir, "data") }

// choosePort keeps the port of a running server, or else takes a free one.
func (p *Postgres) choosePort() (int, error) {
	if _, port, ok := p.pidFile(); ok {
		return port, nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (p *Postgres) pidPath() string { return filepath.Join(p.data(), "postmaster.pid") }

// pidFile reads postmaster.pid (PostgreSQL 15, chapter 73.1): process id on line 1, port on line 4.
func (p *Postgres) pidFile() (pid, port int, ok bool) {
	text, err := os.ReadFile(p.pidPath())
	if err != nil {
		return 0, 0, false
	}
	lines := strings.Split(string(text), "\n")
	if len(lines) < 4 {
		return 0, 0, false
	}
	pid, err1 := strconv.Atoi(strings.TrimSpace(lines[0]))
	port, err2 := strconv.Atoi(strings.TrimSpace(lines[3]))
	return pid, port, err1 == nil && err2 == nil && p.isOurs(pid)
}

// isOurs tells whether a process is a PostgreSQL of this cluster: each has the data folder as its own. Where there is
// no /proc, that it lives has to do.
func (p *Postgres) isOurs(pid int) bool {
	if !hasProc() {
		return syscall.Kill(pid, 0) == nil
	}
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if err != nil || strings.TrimSpace(string(name)) != "postgres" {
		return false
	}
	its, err := os.Stat(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return false
	}
	ours, err := os.Stat(p.data())
	return err == nil && os.SameFile(its, ours)
}

func hasProc() bool {
	_, err := os.Stat("/proc/self")
	return err == nil
}

// adoptOrStart takes over a server of the cluster that runs, or starts one. Processes that a killed server has left end
// by themselves when they notice; until then the cluster's memory is theirs, and no other server starts on it.
func (p *Postgres) adoptOrStart(ctx context.Context) error {
	for end := time.Now().Add(leftFor); ; {
		if pid, port, ok := p.pidFile(); ok {
			p.port = port
			if p.answers(ctx) {
				p.log.Info("taking over the PostgreSQL that is running already", "pid", pid, "port", port)
				p.setPid(pid)
				return nil
			}
		} else if !p.hasLeft() {
			break
		}
		if time.Now().After(end) {
			return p.start(ctx) // which says what is in its way
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	if err := p.dropStale(); err != nil {
		return err
	}
	return p.start(ctx)
}

// dropStale removes a file that names no server of ours. The number in it may be another process's by now, or that of
// one that is dead and not yet taken off the system's list; to PostgreSQL each would be a server that runs. Where the
// system does not tell whose a process is, the file stays: PostgreSQL knows what another user's process means.
func (p *Postgres) dropStale() error {
	text, err := os.ReadFile(p.pidPath())
	if errors.Is(err, fs.ErrNotExist) || !hasProc() {
		return nil
	}
	if err != nil {
		return err
	}
	number, _, _ := strings.Cut(string(text), "\n")
	// One that says nothing is what a full disk leaves of a start; that no server is starting was seen before.
	if pid, err := strconv.Atoi(strings.TrimSpace(number)); err == nil {
		_, err = os.Stat(fmt.Sprintf("/proc/%d/cwd", pid))
		if p.isOurs(pid) || err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil
		}
	}
	return os.Remove(p.pidPath())
}

// leftFor bounds how long is waited for a server that a crash of ours has left to answer, or its processes to end.
const leftFor = 60 * time.Second

func (p *Postgres) hasLeft() bool {
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return false
	}
	return slices.ContainsFunc(processes, func(d os.DirEntry) bool {
		pid, err := strconv.Atoi(d.Name())
		return err == nil && p.isOurs(pid)
	})
}

func (p *Postgres) setPid(pid int) {
	p.mu.Lock()
	p.pid = pid
	p.mu.Unlock()
}

// start runs the server and waits until it accepts connections.
func (p *Postgres) start(ctx context.Context) error {
	logPath := filepath.Join(p.dir, "server.log")
	logFile, err := os.OpenFile(logPath, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	from, _ := logFile.Seek(0, 2)
	cmd := p.command(context.Background(), "postgres", "-D", p.data(), "-p", strconv.Itoa(p.port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=60",
		"-c", "shared_buffers=64MB", "-c", "log_checkpoints=off")
	cmd.Stdout, cmd.Stderr = logFile, logFile
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting PostgreSQL: %w", err)
	}
	p.setPid(cmd.Process.Pid)
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	deadline := time.Now().Add(60 * time.Second)
	for {
		select {
		case err := <-ended:
			p.setPid(0)
			return fmt.Errorf("PostgreSQL ended at once (%v). Its own words, from %s:\n%s", err, logPath, tail(logPath, from))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		if p.answers(ctx) {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not accept connections after 60 s. Its own words, from %s:\n%s", logPath,
				tail(logPath, from))
		}
	}
}

// answers asks the server itself: a port that is open may belong to one that is still starting up.
func (p *Postgres) answers(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	c, err := pgx.Connect(ctx, p.DSN())
	if err != nil {
		return false
	}
	_ = c.Close(ctx)
	return true
}

func tail(path string, from int64) string {
	text, err := os.ReadFile(path)
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(text[min(from, int64(len(text))):])), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}

// watch starts the server again whenever its process has gone.
func (p *Postgres) watch(ctx context.Context) {
	defer close(p.done)
	last, wait := "", 250*time.Millisecond // what was said of it, until it is there again
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if pid := p.Pid(); pid != 0 && syscall.Kill(pid, 0) == nil {
			last, wait = "", 250*time.Millisecond
			continue
		}
		if last == "" {
			p.log.Warn("PostgreSQL is gone; starting it again")
		}
		err := p.start(ctx)
		if text := fmt.Sprint(err); err != nil && ctx.Err() == nil && text != last {
			p.log.Warn("PostgreSQL did not start; trying again", "error", err)
			last, wait = text, time.Second
		}
	}
}
