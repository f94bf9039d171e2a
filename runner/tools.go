package runner

import (
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/runner/process"
	"gentlepiston.example/piston/runner/sandbox"
)

// Probe is how a tool's version is found: a command whose output holds it.
type Probe struct{ Name, Command string }

// probes are the tools a runner looks for by itself.
var probes = []Probe{
	{"aapt", "aapt version"}, {"aapt2", "aapt2 version"}, {"apksigner", "apksigner --version"},
	{"bundletool", "bundletool version"},
	{"bash", "bash --version"}, {"bun", "bun --version"}, {"cargo", "cargo --version"}, {"clang", "clang --version"},
	{"cmake", "cmake --version"},
	{"cocoapods", "pod --version"}, {"curl", "curl --version"}, {"dart", "dart --version"},
	{"flutter", "flutter --version"}, {"gcc", "gcc --version"},
	{"git", "git --version"}, {"go", "go version"}, {"gradle", "gradle --version"}, {"java", "java -version"},
	{"jq", "jq --version"},
	{"kotlinc", "kotlinc -version"}, {"lld", "ld.lld --version"}, {"make", "make --version"}, {"maven", "mvn --version"},
	{"ninja", "ninja --version"},
	{"node", "node --version"}, {"npm", "npm --version"}, {"perl", "perl -e 'print $^V'"}, {"pnpm", "pnpm --version"},
	{"python3", "python3 --version"},
	{"ruby", "ruby --version"}, {"rustc", "rustc --version"}, {"swift", "swift --version"},
	{"xcode", "xcodebuild -version"}, {"yarn", "yarn --version"},
	{"zip", "zip -v | sed -n 2p"},
}

// probeFor bounds one command.
const probeFor = 20 * time.Second

var versionForm = regexp.MustCompile(`[0-9]+(?:[._][0-9]+)+|\b[0-9]+\b`)

// FindTools asks each tool for its version, where steps would find it. Tools that are not there are left out. more
// are probes of the runner's own configuration; they win over those it knows. only, when given, says which are
// looked for: one of them that has no probe is there, in a version that cannot be told, when a program of that name
// is. It is not run: the names are whatever pipelines say.
func FindTools(ctx context.Context, isolation sandbox.Isolation, more []Probe, only map[string]bool) map[string]string {
	found := map[string]string{}
	var mu sync.Mutex
	var all sync.WaitGroup
	room := make(chan struct{}, 2*runtime.NumCPU())
	byName := map[string]string{}
	for _, p := range append(append([]Probe(nil), probes...), more...) {
		byName[p.Name] = p.Command
	}
	path := sandbox.StepPath(isolation)
	for name, command := range byName {
		if program, _, _ := strings.Cut(command, " "); !inPath(program, path) || only != nil && !only[name] {
			continue
		}
		all.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			if version := probe(ctx, command, path); version != "" {
				mu.Lock()
				found[name] = version
				mu.Unlock()
			}
		})
	}
	all.Wait()
	for name := range only {
		if _, has := byName[name]; !has && programForm.MatchString(name) && inPath(name, path) {
			found[name] = ""
		}
	}
	return found
}

// programForm is a name that a program may have, and no path.
var programForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,63}$`)

// toolbox is what a runner knows of its tools; its slots share it.
type toolbox struct {
	mu    sync.Mutex
	tools map[string]string
	lacks map[string]bool
}

// newToolbox holds what was found at the start; of what has a probe and was not found it is known that it is not
// there.
func newToolbox(found map[string]string, more []Probe) *toolbox {
	b := &toolbox{tools: maps.Clone(found), lacks: map[string]bool{}}
	if b.tools == nil {
		b.tools = map[string]string{}
	}
	for _, p := range append(append([]Probe(nil), probes...), more...) {
		if _, has := found[p.Name]; !has {
			b.lacks[p.Name] = true
		}
	}
	return b
}

// tell writes into a claim what is known.
func (b *toolbox) tell(claim *api.ClaimRequest) {
	b.mu.Lock()
	defer b.mu.Unlock()
	claim.Tools, claim.Lacks = maps.Clone(b.tools), slices.Sorted(maps.Keys(b.lacks))
}

// versions are those that are known.
func (b *toolbox) versions() map[string]string {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.tools)
}

// installed stands for what is installed on this machine: Debian's list of packages, else the system's release; ""
// where nobody can tell.
var installed = sync.OnceValue(func() string {
	for _, file := range []string{"/var/lib/dpkg/status", "/etc/os-release"} {
		if text, err := os.ReadFile(file); err == nil {
			return fmt.Sprintf("%x", sha256.Sum256(text))
		}
	}
	return ""
})

// lookFor looks for tools that jobs ask for.
func (b *toolbox) lookFor(ctx context.Context, isolation sandbox.Isolation, names []string) {
	only := map[string]bool{}
	for _, name := range names {
		only[name] = true
	}
	found := FindTools(ctx, isolation, nil, only)
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, name := range names {
		if version, has := found[name]; has {
			b.tools[name] = version
		} else {
			b.lacks[name] = true
		}
	}
}

// inPath reports whether a program may be there: a path, or a name of the folders of path.
func inPath(program, path string) bool {
	if strings.Contains(program, "/") {
		return true
	}
	for dir := range strings.SplitSeq(path, ":") {
		if info, err := os.Stat(dir + "/" + program); err == nil && info.Mode()&0o111 != 0 {
			return true
		}
	}
	return false
}

// probe runs a command and finds the first version in what it prints; "" when it fails.
func probe(ctx context.Context, command, path string) string {
	ctx, cancel := context.WithTimeout(ctx, probeFor)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	cmd.Env = []string{"PATH=" + path, "LC_ALL=C.UTF-8", "HOME=/nonexistent"}
	cmd.Dir = "/"
	process.OwnGroup(cmd)
	cmd.Cancel = func() error { process.Kill(cmd); return nil }
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	if err != nil {
		return ""
	}
	return versionForm.FindString(string(out))
}
