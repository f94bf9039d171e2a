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

// Job is the part of a run that needs one machine.
type Job struct {
	Name       string            `toml:"-" json:"name"`
	About      string            `toml:"about" json:"about,omitempty" doc:"One line that says what the job is for." sample:"about = \"Package for every processor\""`
	Machine    []string          `toml:"machine" json:"machine,omitempty" doc:"Labels a runner must have. Default [\"linux\"]." sample:"machine = [\"linux\"]"`
	Tools      map[string]string `toml:"tools" json:"tools,omitempty" doc:"Tools the runner must have, each with the versions that will do: a version and all that continue it (\"17\"), or bounds (\">=14\", \">=3.20, <4\"), or \"*\"." sample:"tools = { clang = \">=11\", git = \"*\" }"`
	After      []string          `toml:"after" json:"after,omitempty" doc:"Jobs that must be over before this one starts. A job with variants stands for all of them. Unless always is set they must have passed." sample:"after = [\"core\"]"`
	When       string            `toml:"when" json:"when,omitempty" doc:"Condition (CEL) without which the job is skipped. It is asked when the jobs before it are over." sample:"when = 'branch == \"main\" || changed.within(\"android/**\")'"`
	Always     bool              `toml:"always" json:"always,omitempty" doc:"Set to true for a job that runs although one before it failed." sample:"after = [\"core\"]\nalways = true"`
	Advisory   bool              `toml:"advisory" json:"advisory,omitempty" doc:"Set to true for a job whose failure is reported and changes nothing else." sample:"advisory = true"`
	Limit      Duration          `toml:"limit" json:"limit,omitempty" doc:"How long the job may take, from its claim to its end." sample:"limit = \"20m\""`
	Limits     *Limits           `toml:"limits" json:"limits,omitempty" doc:"What the job may take of the machine; a runner has limits of its own, and the lesser counts." sample:"limits = { memory = \"4GB\", processes = 500, log = \"20MB\" }"`
	Retry      *Retry            `toml:"retry" json:"retry,omitempty" doc:"Which failures make the job be tried again." sample:"retry = { times = 2, exit_codes = [75], wait = \"10s\" }"`
	Env        map[string]string `toml:"env" json:"env,omitempty" doc:"Environment variables of the job's steps; they win over the pipeline's." sample:"env = { ABI = \"arm64-v8a\" }"`
	Dir        string            `toml:"dir" json:"dir,omitempty" doc:"Folder of the workspace in which the steps run that name none. Default: its top." sample:"dir = \"android\""`
	Shell      string            `toml:"shell" json:"shell,omitempty" doc:"What runs the scripts of steps that name none: \"sh\" (the default, with -e), \"bash\" (with -e -o pipefail) or \"python3\"." sample:"shell = \"bash\""`
	History    string            `toml:"history" json:"history,omitempty" doc:"\"shallow\" (the default) checks out the one commit; \"full\" brings the whole history and all tags, for scripts that read it." sample:"history = \"full\""`
	Submodules *Submodules       `toml:"submodules" json:"submodules,omitempty" doc:"How to fetch submodules that are at ssh addresses. Those at https addresses, and those of projects that lend their source, need none of it." sample:"[job.a.submodules]\nkey = \"CHARTS_KEY\"\nhosts = [\"git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm\"]"`
	Variants   *Variants         `toml:"variants" json:"-" doc:"Makes a job of its own for each combination of values."`
	Take       []string          `toml:"take" json:"take,omitempty" doc:"Files that earlier jobs hand on, each as JOB/NAME, put where they were before the steps." sample:"after = [\"core\"]\ntake = [\"core/library\"]"`
	Cache      map[string]*Cache `toml:"cache" json:"cache,omitempty" doc:"Folders kept between runs, by name."`
	Step       []*Step           `toml:"step" json:"step" doc:"The steps, in order. At least one."`
	Hand       map[string]*Hand  `toml:"hand" json:"hand,omitempty" doc:"Files to hand to later jobs, by name."`
	Keep       map[string]*Keep  `toml:"keep" json:"keep,omitempty" doc:"Artifacts to keep after the steps, by name."`

	Of      string            `toml:"-" json:"of,omitempty"`      // the job as written, when this is one of its variants
	Variant map[string]string `toml:"-" json:"variant,omitempty"` // its values
	written string            // name in the file
}

// Variants makes jobs of combinations of values.
type Variants struct {
	Over   map[string][]string `toml:"over" json:"over" doc:"The values of each environment variable. Each step finds its own; in paths ${NAME} stands for it." sample:"over = { ABI = [\"arm64-v8a\", \"x86_64\"], KIND = [\"debug\", \"release\"] }"`
	Except []map[string]string `toml:"except" json:"except,omitempty" doc:"Combinations to leave out; values that are not named match any." sample:"except = [{ ABI = \"x86_64\", KIND = \"release\" }]"`
}

// Retry says which failures make a job be tried again. A lost runner does so in any case.
type Retry struct {
	Times     int      `toml:"times" json:"times" doc:"How often to try again at most, 1 to 10." sample:"times = 2\nexit_codes = [75]"`
	ExitCodes []int    `toml:"exit_codes" json:"exit_codes,omitempty" doc:"Exit codes of a failed step after which to try again." sample:"exit_codes = [75]"`
	Steps     []string `toml:"steps" json:"steps,omitempty" doc:"Names of the steps after whose failure to try again." sample:"steps = [\"fetch\"]"`
	Wait      Duration `toml:"wait" json:"wait,omitempty" doc:"How long to wait before; doubled each time. Default 5s." sample:"wait = \"10s\"\nexit_codes = [75]"`
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
	Key   string   `toml:"key" json:"key" doc:"The secret that holds the private key, as ssh-keygen writes it, without a passphrase. It goes to the checkout, and to no step." sample:"key = \"CHARTS_KEY\"\nhosts = [\"git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm\"]"`
	Hosts []string `toml:"hosts" json:"hosts" doc:"The hosts and their public keys, each as ssh-keyscan prints it: HOST TYPE KEY, or [HOST]:PORT TYPE KEY. No other is spoken to." sample:"key = \"CHARTS_KEY\"\nhosts = [\"git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm\"]"`
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
	Name    string   `toml:"-" json:"name"`
	Paths   []string `toml:"paths" json:"paths" doc:"Folders or files of the workspace to put back before the steps and to save after a passed job." sample:"paths = [\"depot\"]"`
	Follows []string `toml:"follows" json:"follows" doc:"Files (globs allowed) whose content decides which saved copy fits. A change in any of them makes a new one." sample:"follows = [\"depot.lock\"]"`
}

// Hand names files that later jobs of the run may take.
type Hand struct {
	Name  string   `toml:"-" json:"name"`
	Files []string `toml:"files" json:"files" doc:"Globs of workspace files to hand on." sample:"files = [\"out/lib/**\"]"`
}

// Keep names files that outlive the job.
type Keep struct {
	Name     string   `toml:"-" json:"name"`
	Files    []string `toml:"files" json:"files" doc:"Globs of workspace files to keep." sample:"files = [\"out/android/*.apk\"]"`
	MayHold  []string `toml:"may_hold" json:"may_hold,omitempty" doc:"Secrets that these files may hold, since they are for whoever gets them, such as a configuration that is part of the app. An artifact that holds any other secret of the job fails it." sample:"files = [\"out/android/*.apk\"]\nmay_hold = [\"SERVICES\"]"`
	Optional bool     `toml:"optional" json:"optional,omitempty" doc:"Set to true when it is no failure that nothing matches." sample:"optional = true"`
}

// Step is one shell command of a job.
type Step struct {
	Name          string            `toml:"name" json:"name" doc:"What the step is called in logs and reports. Default: the script's first line." sample:"name = \"unit tests\""`
	Script        string            `toml:"script" json:"script" doc:"What to run, in the workspace. Values reach it as environment variables only." sample:"script = \"make test\""`
	Part          string            `toml:"part" json:"-" doc:"Instead of a script: the steps of piston/parts/NAME.toml stand here, and what they need (caches, tools, artifacts) becomes the job's." sample:"part = \"stations\""`
	Note          *action.Note      `toml:"note" json:"note,omitempty" doc:"Instead of a script: a note for the run's page." sample:"note = { file = \"out/sizes.md\" }"`
	With          map[string]any    `toml:"with" json:"-" doc:"Values for the part's parameters." sample:"part = \"stations\"\nwith = { FOLDER = \"depot\" }"`
	When          string            `toml:"when" json:"when,omitempty" doc:"Condition (CEL) without which the step is skipped." sample:"when = 'trusted'"`
	Always        bool              `toml:"always" json:"always,omitempty" doc:"Set to true for a step that runs although an earlier one failed." sample:"always = true"`
	Advisory      bool              `toml:"advisory" json:"advisory,omitempty" doc:"Set to true for a step whose failure is reported and changes nothing else." sample:"advisory = true"`
	Shell         string            `toml:"shell" json:"shell,omitempty" doc:"What runs the script: \"sh\", \"bash\" or \"python3\". Default: the job's." sample:"shell = \"bash\""`
	Env           map[string]string `toml:"env" json:"env,omitempty" doc:"Environment variables of this step; they win over the job's." sample:"env = { VERBOSE = \"1\" }"`
	Secrets       []string          `toml:"secrets" json:"secrets,omitempty" doc:"Secrets this step gets, each as an environment variable of the secret's name. Of a set, a member: SET:MEMBER, in the variable SET; ${NAME} stands for a variant's value." sample:"secrets = [\"DEPOT_TOKEN\", \"FEED:harbour\"]"`
	SecretFiles   map[string]string `toml:"secret_files" json:"secret_files,omitempty" doc:"Secrets this step gets as files: secret name = path in the workspace. The file is there (mode 0600) only while the step runs." sample:"secret_files = { \"SERVICES:harbour\" = \"android/services.json\" }"`
	Dir           string            `toml:"dir" json:"dir,omitempty" doc:"Folder of the workspace to run in. Default: the job's." sample:"dir = \"android\""`
	Limit         Duration          `toml:"limit" json:"limit,omitempty" doc:"How long the step may take." sample:"limit = \"5m\""`
	Network       string            `toml:"network" json:"network,omitempty" doc:"\"outside\" (the default): the world, but nothing of the machine or the networks it is in, besides what the runner's owner lets through; each job has a loopback of its own. \"none\": no network at all. \"host\": the machine's own, where runner and project allow it, and never for a proposal from outside." sample:"network = \"none\""`
	TestReports   []string          `toml:"test_reports" json:"test_reports,omitempty" doc:"Globs of JUnit XML files the step writes; failed cases are shown on the run. A step that passes without a single case fails all the same: its tests did not run." sample:"test_reports = [\"out/tests/*.xml\"]"`
	TestsOptional bool              `toml:"tests_optional" json:"tests_optional,omitempty" doc:"Set to true for a step that may pass without a test case in its reports." sample:"test_reports = [\"out/tests/*.xml\"]\ntests_optional = true"`

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
