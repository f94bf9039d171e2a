package definition

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/action"
)

// Job is the part of a run that needs one machine; or people, when it asks them.
type Job struct {
	Name string `toml:"-" json:"name"`
	// One line that says what the job is for.
	//
	//	about = "Package for every processor"
	About string `toml:"about" json:"about,omitempty"`
	// Labels a runner must have. Default ["linux"].
	//
	//	machine = ["linux"]
	Machine []string `toml:"machine" json:"machine,omitempty"`
	// Tools the runner must have, each with the versions that will do: a version and all that continue it ("17"), or
	// bounds (">=14", ">=3.20, <4"), or "*".
	//
	//	tools = { clang = ">=11", git = "*" }
	Tools map[string]string `toml:"tools" json:"tools,omitempty"`
	// Makes the job a gate: people are asked, and the jobs after it wait for their answer. See below.
	Ask *Ask `toml:"ask" json:"ask,omitempty"`
	// Jobs that must be over before this one starts. A job with variants stands for all of them. Unless always is set
	// they must have passed.
	//
	//	after = ["core"]
	After []string `toml:"after" json:"after,omitempty"`
	// Condition (CEL) without which the job is skipped. It is asked when the jobs before it are over.
	//
	//	when = 'branch == "main" || changed.within("android/**")'
	When string `toml:"when" json:"when,omitempty"`
	// Set to true for a job that runs although one before it failed.
	//
	//	after = ["core"]
	//	always = true
	Always bool `toml:"always" json:"always,omitempty"`
	// Set to true for a job whose failure is reported and changes nothing else.
	//
	//	advisory = true
	Advisory bool `toml:"advisory" json:"advisory,omitempty"`
	// How long the job may take, from its claim to its end.
	//
	//	limit = "20m"
	Limit Duration `toml:"limit" json:"limit,omitempty"`
	// For how long the workspace stays on its machine when the job has failed, at most 8 hours, so that one can look
	// around in it (piston shell). Default: not at all.
	//
	//	stay = "15m"
	Stay Duration `toml:"stay" json:"stay,omitempty"`
	// What the job may take of the machine; a runner has limits of its own, and the lesser counts.
	//
	//	limits = { memory = "4GB", processes = 500, log = "20MB" }
	Limits *Limits `toml:"limits" json:"limits,omitempty"`
	// Which failures make the job be tried again.
	//
	//	retry = { times = 2, exit_codes = [75], wait = "10s" }
	Retry *Retry `toml:"retry" json:"retry,omitempty"`
	// Environment variables of the job's steps; they win over the pipeline's.
	//
	//	env = { ABI = "arm64-v8a" }
	Env map[string]string `toml:"env" json:"env,omitempty"`
	// Folder of the workspace in which the steps run that name none. Default: its top.
	//
	//	dir = "android"
	Dir string `toml:"dir" json:"dir,omitempty"`
	// What runs the scripts of steps that name none: "sh" (the default, with -e), "bash" (with -e -o pipefail) or
	// "python3".
	//
	//	shell = "bash"
	Shell string `toml:"shell" json:"shell,omitempty"`
	// "shallow" (the default) checks out the one commit; "full" brings the whole history and all tags, for scripts
	// that read it.
	//
	//	history = "full"
	History string `toml:"history" json:"history,omitempty"`
	// How to fetch submodules that are at ssh addresses. Those at https addresses, and those of projects that lend
	// their source, need none of it.
	//
	//	[job.a.submodules]
	//	key = "CHARTS_KEY"
	//	hosts = ["git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm"]
	Submodules *Submodules `toml:"submodules" json:"submodules,omitempty"`
	// Makes a job of its own for each combination of values.
	Variants *Variants `toml:"variants" json:"-"`
	// Files that earlier jobs hand on, each as JOB/NAME, put where they were before the steps.
	//
	//	after = ["core"]
	//	take = ["core/library"]
	Take []string `toml:"take" json:"take,omitempty"`
	// Folders kept between runs, by name.
	Cache map[string]*Cache `toml:"cache" json:"cache,omitempty"`
	// The steps, in order. At least one, but for a gate.
	Step []*Step `toml:"step" json:"step"`
	// Files to hand to later jobs, by name.
	Hand map[string]*Hand `toml:"hand" json:"hand,omitempty"`
	// Artifacts to keep after the steps, by name.
	Keep map[string]*Keep `toml:"keep" json:"keep,omitempty"`

	Of      string            `toml:"-" json:"of,omitempty"`      // the job as written, when this is one of its variants
	Variant map[string]string `toml:"-" json:"variant,omitempty"` // its values
	written string            // name in the file
}

// Variants makes jobs of combinations of values.
type Variants struct {
	// The values of each environment variable. Each step finds its own; in paths ${NAME} stands for it.
	//
	//	over = { ABI = ["arm64-v8a", "x86_64"], KIND = ["debug", "release"] }
	Over map[string][]string `toml:"over" json:"over"`
	// Combinations to leave out; values that are not named match any.
	//
	//	except = [{ ABI = "x86_64", KIND = "release" }]
	Except []map[string]string `toml:"except" json:"except,omitempty"`
}

// Retry says which failures make a job be tried again. A lost runner does so in any case.
type Retry struct {
	// How often to try again at most, 1 to 10.
	//
	//	times = 2
	//	exit_codes = [75]
	Times int `toml:"times" json:"times"`
	// Exit codes of a failed step after which to try again.
	//
	//	exit_codes = [75]
	ExitCodes []int `toml:"exit_codes" json:"exit_codes,omitempty"`
	// Names of the steps after whose failure to try again.
	//
	//	steps = ["fetch"]
	Steps []string `toml:"steps" json:"steps,omitempty"`
	// How long to wait before; doubled each time. Default 5s.
	//
	//	wait = "10s"
	//	exit_codes = [75]
	Wait Duration `toml:"wait" json:"wait,omitempty"`
}

// DefaultRetryWait is the pause before a second try.
const DefaultRetryWait = Duration("5s")

// Covers reports whether a failed step is one to try again after. code is nil when the step has none.
func (r *Retry) Covers(step string, code *int) bool {
	if r == nil {
		return false
	}
	return slices.Contains(r.Steps, step) || code != nil && slices.Contains(r.ExitCodes, *code)
}

// Submodules is what opens the hosts of submodules.
type Submodules struct {
	// The secret that holds the private key, as ssh-keygen writes it, without a passphrase. It goes to the checkout,
	// and to no step.
	//
	//	key = "CHARTS_KEY"
	//	hosts = ["git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm"]
	Key string `toml:"key" json:"key"`
	// The hosts and their public keys, each as ssh-keyscan prints it: HOST TYPE KEY, or [HOST]:PORT TYPE KEY. No other
	// is spoken to.
	//
	//	key = "CHARTS_KEY"
	//	hosts = ["git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm"]
	Hosts []string `toml:"hosts" json:"hosts"`
}

// HostKey reads an entry of Hosts: an address with its port, and the key in the form of RFC 4253, 6.6.
func HostKey(entry string) (address string, key []byte, err error) {
	fields := strings.Fields(entry)
	if len(fields) < 3 {
		return "", nil, errors.New("it has not three words: HOST TYPE KEY")
	}
	host, port := fields[0], "22"
	if strings.HasPrefix(host, "[") {
		if host, port, err = net.SplitHostPort(host); err != nil {
			return "", nil, fmt.Errorf("%q is no [HOST]:PORT", fields[0])
		}
	}
	if strings.ContainsAny(host, "*?!,|@") {
		return "", nil, errors.New("it names a host by a pattern or a hash; write the host's name")
	}
	key, err = base64.StdEncoding.DecodeString(fields[2])
	kind := fields[1]
	if err != nil || len(key) < 4+len(kind) || string(key[4:4+len(kind)]) != kind ||
		binary.BigEndian.Uint32(key) != uint32(len(kind)) {
		return "", nil, fmt.Errorf("its third word is no key of type %s", kind)
	}
	return net.JoinHostPort(strings.ToLower(host), port), key, nil
}

// Cache is a folder kept between runs, identified by the content of the files it follows.
type Cache struct {
	Name string `toml:"-" json:"name"`
	// Folders or files of the workspace to put back before the steps and to save after a passed job.
	//
	//	paths = ["depot"]
	Paths []string `toml:"paths" json:"paths"`
	// Files (globs allowed) whose content decides which saved copy fits. A change in any of them makes a new one.
	//
	//	follows = ["depot.lock"]
	Follows []string `toml:"follows" json:"follows"`
	// Set to true when nothing but what fits will do. Otherwise, when no saved copy fits, the nearest is restored: the
	// last of the same branch, else of the branch that it came from or goes to, else of the main one.
	//
	//	exact = true
	Exact bool `toml:"exact" json:"exact,omitempty"`
}

// Hand names files that later jobs of the run may take.
type Hand struct {
	Name string `toml:"-" json:"name"`
	// Globs of workspace files to hand on.
	//
	//	files = ["out/lib/**"]
	Files []string `toml:"files" json:"files"`
}

// Keep names files that outlive the job.
type Keep struct {
	Name string `toml:"-" json:"name"`
	// Globs of workspace files to keep.
	//
	//	files = ["out/android/*.apk"]
	Files []string `toml:"files" json:"files"`
	// Secrets that these files may hold, since they are for whoever gets them, such as a configuration that is part of
	// the app. An artifact that holds any other secret of the job fails it.
	//
	//	files = ["out/android/*.apk"]
	//	may_hold = ["SERVICES"]
	MayHold []string `toml:"may_hold" json:"may_hold,omitempty"`
	// Set to true when it is no failure that nothing matches.
	//
	//	optional = true
	Optional bool `toml:"optional" json:"optional,omitempty"`
}

// Step is one shell command of a job.
type Step struct {
	// What the step is called in logs and reports. Default: the script's first line.
	//
	//	name = "unit tests"
	Name string `toml:"name" json:"name"`
	// What to run, in the workspace. Values reach it as environment variables only.
	//
	//	script = "make test"
	Script string `toml:"script" json:"script"`
	// Instead of a script: the steps of piston/parts/NAME.toml stand here, and what they need (caches, tools,
	// artifacts) becomes the job's.
	//
	//	part = "stations"
	Part string `toml:"part" json:"-"`
	// Instead of a script: a note for the run's page.
	//
	//	note = { file = "out/sizes.md" }
	Note *action.Note `toml:"note" json:"note,omitempty"`
	// Deals tests among the variants of the job by the times they took, instead of running a script. See below.
	Deal *action.Deal `toml:"deal" json:"deal,omitempty"`
	// Takes the next version of an app and writes it into the app's files, instead of running a script. See below.
	Raise *action.Raise `toml:"raise" json:"raise,omitempty"`
	// Commits, tags and pushes what was raised, instead of running a script. See below.
	Land *action.Land `toml:"land" json:"land,omitempty"`
	// Makes an app bundle of modules, or an APK of an app bundle, instead of running a script. See below.
	Package *action.Pack `toml:"package" json:"package,omitempty"`
	// Signs packages with an identity of the project, instead of running a script. See below.
	Sign *action.Sign `toml:"sign" json:"sign,omitempty"`
	// Holds packages against the checklist, instead of running a script. See below.
	Checklist *action.Checklist `toml:"checklist" json:"checklist,omitempty"`
	// Makes a release of what the run has kept, instead of running a script. See below.
	Release *action.Release `toml:"release" json:"release,omitempty"`
	// Brings what the run has released to an outlet, instead of running a script. See below.
	Publish *action.Publish `toml:"publish" json:"publish,omitempty"`
	// Values for the part's parameters.
	//
	//	part = "stations"
	//	with = { FOLDER = "depot" }
	With map[string]any `toml:"with" json:"-"`
	// Condition (CEL) without which the step is skipped.
	//
	//	when = 'trusted'
	When string `toml:"when" json:"when,omitempty"`
	// Set to true for a step that runs although an earlier one failed.
	//
	//	always = true
	Always bool `toml:"always" json:"always,omitempty"`
	// Set to true for a step whose failure is reported and changes nothing else.
	//
	//	advisory = true
	Advisory bool `toml:"advisory" json:"advisory,omitempty"`
	// What runs the script: "sh", "bash" or "python3". Default: the job's.
	//
	//	shell = "bash"
	Shell string `toml:"shell" json:"shell,omitempty"`
	// Environment variables of this step; they win over the job's.
	//
	//	env = { VERBOSE = "1" }
	Env map[string]string `toml:"env" json:"env,omitempty"`
	// Secrets this step gets, each as an environment variable of the secret's name. Of a set, a member: SET:MEMBER, in
	// the variable SET; ${NAME} stands for a variant's value.
	//
	//	secrets = ["DEPOT_TOKEN", "FEED:harbour"]
	Secrets []string `toml:"secrets" json:"secrets,omitempty"`
	// Secrets this step gets as files: secret name = path in the workspace. The file is there (mode 0600) only while
	// the step runs.
	//
	//	secret_files = { "SERVICES:harbour" = "android/services.json" }
	SecretFiles map[string]string `toml:"secret_files" json:"secret_files,omitempty"`
	// Folder of the workspace to run in. Default: the job's.
	//
	//	dir = "android"
	Dir string `toml:"dir" json:"dir,omitempty"`
	// How long the step may take.
	//
	//	limit = "5m"
	Limit Duration `toml:"limit" json:"limit,omitempty"`
	// "outside" (the default): the world, but nothing of the machine or the networks it is in, besides what the
	// runner's owner lets through; each job has a loopback of its own. "none": no network at all. "host": the
	// machine's own, where runner and project allow it, and never for a proposal from outside.
	//
	//	network = "none"
	Network string `toml:"network" json:"network,omitempty"`
	// Globs of JUnit XML files the step writes; failed cases are shown on the run. A step that passes without a single
	// case fails all the same: its tests did not run.
	//
	//	test_reports = ["out/tests/*.xml"]
	TestReports []string `toml:"test_reports" json:"test_reports,omitempty"`
	// Set to true for a step that may pass without a test case in its reports.
	//
	//	test_reports = ["out/tests/*.xml"]
	//	tests_optional = true
	TestsOptional bool `toml:"tests_optional" json:"tests_optional,omitempty"`
	// All that the step reads: globs of files of the workspace, and variables of the service, each as $NAME. The step
	// sees these files and its tools, and nothing else; it has no network, and a home of its own that is empty. When it
	// has passed before with the same script, files, environment, tools, secrets and platform, it is not run again: its
	// outputs and its log are put back.
	//
	//	inputs = ["core/**", "Makefile", "$PISTON_VERSION_NAME"]
	//	outputs = ["out/core/**"]
	Inputs []string `toml:"inputs" json:"inputs,omitempty"`
	// Globs of the files that a step with inputs makes. What else it writes is gone when it ends.
	//
	//	inputs = ["core/**"]
	//	outputs = ["out/core/**"]
	Outputs []string `toml:"outputs" json:"outputs,omitempty"`

	File    string `toml:"-" json:"file,omitempty"` // where it is written, when that is a part
	Line    int    `toml:"-" json:"line"`
	Skip    string `toml:"-" json:"skip,omitempty"` // why the step is not run, once that is known
	written int    // its number in the job as written, with parts put in
}

// The shells.
const (
	ShellSh     = "sh"
	ShellBash   = "bash"
	ShellPython = "python3"
)

// Askers are who may ask for secrets in a job: its checkout, for which nil stands, and its steps.
func (j *Job) Askers() []*Step { return append([]*Step{nil}, j.Step...) }

// SecretsOf lists the names of the secrets that an asker of the job wants, each once, in order.
func (j *Job) SecretsOf(s *Step) []string {
	switch {
	case s != nil:
		return s.AllSecrets()
	case j.Submodules != nil:
		return []string{j.Submodules.Key}
	}
	return nil
}

// AllSecrets lists the names of the secrets a step asks for, as variables or as files, each once, in order.
func (s *Step) AllSecrets() []string {
	set := map[string]bool{}
	for _, name := range s.Secrets {
		set[name] = true
	}
	for name := range s.SecretFiles {
		set[name] = true
	}
	return sortedKeys(set)
}
