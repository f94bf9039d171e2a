// Package definition turns the files of a repository's piston/ folder into checked pipelines.
//
// The format is TOML 1.0 (https://toml.io/en/v1.0.0), read strictly: whatever the format does not know is a
// finding with file, line, column, the offending line and what to do. Parse never panics and never returns a
// pipeline together with an error-level finding. No value of a file is ever spliced into a script's text.
package definition

import (
	"time"
)

// MaxFileSize is the most bytes a pipeline file may have. It is far above any file a person writes.
const MaxFileSize = 1 << 20

// Pipeline is what to do on which event: one file of the piston/ folder.
type Pipeline struct {
	Name    string            `toml:"-" json:"name"`
	About   string            `toml:"about" json:"about,omitempty" doc:"One line that says what the pipeline is for." sample:"about = \"Every push: compile, test and package\""`
	Limit   Duration          `toml:"limit" json:"limit,omitempty" doc:"How long a job of this pipeline may take when it sets no limit of its own. Default 1h." sample:"limit = \"30m\""`
	Env     map[string]string `toml:"env" json:"env,omitempty" doc:"Environment variables of every step." sample:"env = { MODE = \"release\" }"`
	Version *Version          `toml:"version" json:"version,omitempty" doc:"Which version name the pipeline builds." sample:"[version]\nfile = \"VERSION\""`
	Trigger Trigger           `toml:"trigger" json:"trigger" doc:"What starts the pipeline. Without any, only a person does."`
	Job     map[string]*Job   `toml:"job" json:"job" doc:"The jobs, by name. Each runs on one machine; jobs without after start at once, side by side."`
}

// Version says where the version name comes from.
type Version struct {
	File string `toml:"file" json:"file" doc:"A file of the repository whose first line is the version name, such as 1.4.0." sample:"file = \"VERSION\""`
}

// Trigger lists the events that start a pipeline.
type Trigger struct {
	Push *Push `toml:"push" json:"push,omitempty" doc:"Start on a push to a branch." sample:"[trigger.push]\nbranches = [\"main\", \"work/**\"]"`
	Tag  *Tag  `toml:"tag" json:"tag,omitempty" doc:"Start on a new or moved tag." sample:"[trigger.tag]\nnames = [\"v*\"]"`
}

// Push starts a pipeline on a push to a matching branch.
type Push struct {
	Branches []string `toml:"branches" json:"branches,omitempty" doc:"Globs of branch names; ** crosses slashes. Without it every branch matches." sample:"branches = [\"main\", \"work/**\"]"`
}

// Tag starts a pipeline on a matching tag.
type Tag struct {
	Names []string `toml:"names" json:"names,omitempty" doc:"Globs of tag names. Without it every tag matches." sample:"names = [\"v*\"]"`
}

// Job is the part of a run that needs one machine.
type Job struct {
	Name    string            `toml:"-" json:"name"`
	Machine []string          `toml:"machine" json:"machine,omitempty" doc:"Labels a runner must have. Default [\"linux\"]." sample:"machine = [\"linux\"]"`
	After   []string          `toml:"after" json:"after,omitempty" doc:"Jobs that must have passed before this one starts." sample:"after = [\"core\"]"`
	Limit   Duration          `toml:"limit" json:"limit,omitempty" doc:"How long the job may take, from its claim to its end." sample:"limit = \"20m\""`
	Env     map[string]string `toml:"env" json:"env,omitempty" doc:"Environment variables of the job's steps; they win over the pipeline's." sample:"env = { ABI = \"arm64-v8a\" }"`
	History string            `toml:"history" json:"history,omitempty" doc:"\"shallow\" (the default) checks out the one commit; \"full\" brings the whole history and all tags, for scripts that read it." sample:"history = \"full\""`
	Cache   map[string]*Cache `toml:"cache" json:"cache,omitempty" doc:"Folders kept between runs, by name."`
	Step    []*Step           `toml:"step" json:"step" doc:"The steps, in order. At least one."`
	Keep    map[string]*Keep  `toml:"keep" json:"keep,omitempty" doc:"Artifacts to keep after the steps, by name."`
}

// Cache is a folder kept between runs, identified by the content of the files it follows.
type Cache struct {
	Name    string   `toml:"-" json:"name"`
	Paths   []string `toml:"paths" json:"paths" doc:"Folders or files of the workspace to put back before the steps and to save after a passed job." sample:"paths = [\"depot\"]"`
	Follows []string `toml:"follows" json:"follows" doc:"Files (globs allowed) whose content decides which saved copy fits. A change in any of them makes a new one." sample:"follows = [\"depot.lock\"]"`
}

// Step is one shell command of a job.
type Step struct {
	Name        string            `toml:"name" json:"name" doc:"What the step is called in logs and reports. Default: the script's first line." sample:"name = \"unit tests\""`
	Script      string            `toml:"script" json:"script" doc:"What to run, by sh -e, in the workspace. Values reach it as environment variables only." sample:"script = \"make test\""`
	Env         map[string]string `toml:"env" json:"env,omitempty" doc:"Environment variables of this step; they win over the job's." sample:"env = { VERBOSE = \"1\" }"`
	Secrets     []string          `toml:"secrets" json:"secrets,omitempty" doc:"Secrets this step gets, each as an environment variable of the secret's name." sample:"secrets = [\"DEPOT_TOKEN\"]"`
	SecretFiles map[string]string `toml:"secret_files" json:"secret_files,omitempty" doc:"Secrets this step gets as files: secret name = path in the workspace. The file is there (mode 0600) only while the step runs." sample:"secret_files = { SERVICES = \"android/services.json\" }"`
	Dir         string            `toml:"dir" json:"dir,omitempty" doc:"Folder of the workspace to run in. Default: its top." sample:"dir = \"android\""`
	Limit       Duration          `toml:"limit" json:"limit,omitempty" doc:"How long the step may take." sample:"limit = \"5m\""`
	Network     string            `toml:"network" json:"network,omitempty" doc:"\"host\" (the default) or \"none\": no network at all." sample:"network = \"none\""`
	TestReports []string          `toml:"test_reports" json:"test_reports,omitempty" doc:"Globs of JUnit XML files the step writes; failed cases are shown on the run." sample:"test_reports = [\"out/tests/*.xml\"]"`
	Line        int               `toml:"-" json:"line"`
}

// Keep names files that outlive the job.
type Keep struct {
	Name     string   `toml:"-" json:"name"`
	Files    []string `toml:"files" json:"files" doc:"Globs of workspace files to keep." sample:"files = [\"out/android/*.apk\"]"`
	Optional bool     `toml:"optional" json:"optional,omitempty" doc:"Set to true when it is no failure that nothing matches." sample:"optional = true"`
}

// Duration is a span of time as written in a file: a number with a unit, such as "90s", "30m" or "1h30m".
type Duration string

// Value returns the span; zero for an absent one. Parse has checked the text before.
func (d Duration) Value() time.Duration {
	v, err := time.ParseDuration(string(d))
	if err != nil {
		return 0
	}
	return v
}

// DefaultLimit bounds a job that sets no limit, so that a hung one cannot hold a runner for ever.
const DefaultLimit = Duration("1h")

// DefaultMachine is the label set of a job that names none.
const DefaultMachine = "linux"

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
