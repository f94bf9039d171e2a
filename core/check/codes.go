package check

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// Code is a kind of finding.
type Code struct {
	Name     string
	Severity definition.Severity
	Means    string
	Mend     string
}

// Codes lists every kind of finding beyond the format's own, in the order of the documents.
var Codes = []Code{
	{"no-file", definition.Error,
		"A script calls, or a key names, a file that is not in the repository, and no earlier step makes it.",
		"Correct the path (often only `dir` is missing), or `git add` the file. What must not be in the repository " +
			"belongs into a secret, put in place by `secret_files`."},
	{"maybe-no-file", definition.Warning,
		"A script calls a file that is not in the repository; an earlier step runs something that could have made it.",
		"Nothing, when a step makes it. Otherwise as for no-file."},
	{"not-executable", definition.Error,
		"A script calls a file of the repository as a program, and Git does not have it as executable.",
		"`git update-index --chmod=+x FILE`, or call it through its interpreter, such as `sh FILE`."},
	{"no-folder", definition.Error,
		"`dir`, or a `cd` of a script, names a folder that is not in the repository, and no earlier step makes it.",
		"Correct the path."},
	{"not-tracked", definition.Error,
		"A pipeline file, a part, or a file that a pipeline uses is on this machine only: Git does not track it.",
		"`git add` it, or, when it holds a secret, `piston secret set` it."},
	{"no-target", definition.Error, "A script asks make for a target that the Makefile does not have.",
		"Correct the target's name, or the folder."},
	{"bad-script", definition.Error, "A script is not valid in its shell's language.",
		"Mend it at the place shown. For what only bash knows, say `shell = \"bash\"`."},
	{"machine-path", definition.Warning, "A path exists on one person's machine only, such as one below /Users or /home.",
		"Use a path from the workspace, or an environment variable."},
	{"secret-not-set", definition.Error, "A step asks for a secret that nobody has set.",
		"`piston secret set PROJECT NAME`."},
	{"secret-refused", definition.Error, "A step of an untrusted proposal asks for a secret; none is ever given to one.",
		"Give the step `when = 'trusted'`."},
	{"secret-protected", definition.Error,
		"A step asks for a secret that runs of this pipeline, branch or tag are not given.",
		"Ask for it only where it is given, by `when` or in another pipeline; or `piston secret change` what it is for."},
	{"secret-expired", definition.Error, "A step asks for a secret whose value is no longer good.",
		"`piston secret set PROJECT NAME --expires DAY`."},
	{"secret-expires", definition.Warning, "A step asks for a secret that expires within two weeks.",
		"Set a new value before that."},
	{"secret-tracked", definition.Warning,
		"Git tracks a file that holds the value of one of the project's secrets. Who has the repository has the secret.",
		"Take it out, get a new value from whoever issues it, and `piston secret set` that. The old one stays in the " +
			"history."},
	{"nobody-can", definition.Warning, "No runner has a label or tool that a job needs, so the job would wait.",
		"Start such a runner, or correct `machine` or `tools`."},
	{"no-such-outlet", definition.Error, "A step publishes to an outlet that the project does not have.",
		"Correct the name, or `piston outlet set PROJECT NAME`."},
	{"no-branch", definition.Warning, "A glob of branches matches none of the repository's branches.",
		"Correct it, or make the branch."},
	{"no-such-pipeline", definition.Error, "A trigger waits for a pipeline that has no file.",
		"Correct the name: it is the file's, without `.toml`."},
	{"trigger-cycle", definition.Error, "Pipelines start each other in a circle.", "Remove one of the triggers."},
	{"follows-nothing", definition.Warning, "A cache follows a file that is not in the repository, so it is never used.",
		"Name a file that decides what is in the cache, such as a lock file."},
	{"never-cached", definition.Warning, "A cache keeps a path that is in the repository already.",
		"Name what the build downloads or makes."},
	{"artifact-unwritten", definition.Warning, "No step of the job mentions the place of an artifact or of a test report.",
		"Correct the glob: it counts from the top of the workspace, not from `dir`."},
	{"example-app-id", definition.Warning, "The app still has an id of a template, which stores refuse.",
		"Choose your own, once: it can never be changed after the first release."},
	{"debug-build", definition.Warning, "A pipeline for releases builds a debug version, which stores refuse.",
		"Build the release variant."},
	{"version-code", definition.Warning,
		"The app's version code is fixed in a file and is zero, or not above the last one issued.",
		"Take it from `PISTON_BUILD_NUMBER`."},
	{"maybe-secret", definition.Warning,
		"A value under the name of a password, token or key looks like what a generator makes. Only `piston check` and " +
			"`piston try` look, in every text that Git tracks, but not in tests, samples and documents.",
		"Take it out, make a new one, and set it as a secret."},
	{"versions-differ", definition.Warning,
		"Places of an app's own files that ought to say the same version say different ones, or none. An error where a " +
			"step raises the version.",
		"Make them say the same: `piston versions` shows all, `piston versions raise to NAME` writes all."},
	{"versions-unread", definition.Warning,
		"A file in which a version may stand cannot be read. An error where a step raises the version.",
		"Mend it at the place shown."},
	{"debug-manifest", definition.Warning,
		"An Android manifest of a release has what is for debugging: debuggable, test-only, traffic without encryption, " +
			"other apps' logs.",
		"Take it out, or move it into the manifest of the debug build."},
	{"checklist-ahead", definition.Warning,
		"The sources say what the checklist of `piston/app.toml` will stop the package for: a permission that was not " +
			"agreed, a level of Android below the least, encryption that is not declared.",
		"Mend it before the build, or agree to it there."},
	{"not-exported", definition.Warning,
		"A component with an intent-filter does not say whether other apps may start it. Phones refuse such a package from " +
			"target level 31 on.",
		"Add `android:exported`."},
	{"no-64-bit", definition.Warning,
		"A build script names processors, and none with 64 bits. Stores refuse what is without.",
		"Add `arm64-v8a`."},
	{"version-behind", definition.Warning,
		"An app's files say a version name below one that was given out, and no step raises it.",
		"Let a step raise it, or `piston versions raise`."},
	{"wrong-profile", definition.Warning,
		"A provisioning profile, in a file or a secret, is for another app, or expires.",
		"Make one for the app."},
	{"notes-refused", definition.Warning,
		"A file with the notes of a release cannot be used, or is longer than stores take.",
		"Mend or shorten it; `piston versions notes` shows all of them with their lengths."},
	{"no-purpose", definition.Warning,
		"Code for iOS asks for what a person must allow, and no property list says why. Phones end such an app, and the " +
			"store refuses it. Only `piston check` and `piston try` look.",
		"Add the key, with a sentence for those who are asked."},
	{"app-id-differs", definition.Warning, "A file of the app has another id than `piston/app.toml`.",
		"Correct one of them: to a store they are two apps."},
	{"key-tracked", definition.Warning,
		"Git tracks a private key, a keystore, or a file with passwords. Who has the repository has the key.",
		"`git rm --cached` it, make a new key, and set it as a secret. The old one stays in the history."},
	{"unknown-code", definition.Warning, "`allow` names a code that no finding has.", "Correct it."},
	{"schedule-missed", definition.Warning, "The service was not there at the scheduled time; this run makes up for it.",
		"Nothing."},
	{"bad-version-file", definition.Error, "The file that `[version]` names does not begin with a version.",
		"Put it, such as 1.4.0, on the first line."},
	{"bad-input", definition.Error, "A value given at the start by hand cannot be used.", "Give another."},
	{"conflict", definition.Error, "A proposal cannot be merged into its target.",
		"Merge the target into the proposal and settle the conflict there."},
	{"too-many-files", definition.Error, "A repository has more pipelines than one may have; those beyond are not read.",
		"Take some out, or make several of one by inputs and variants."},
	{"not-checked", definition.Warning,
		"A pipeline, or what it speaks of, is so large that only a part of it was checked.",
		"Split it, or put what is long into files of the repository."},
	{"set-aside", definition.Error,
		"An event could not be planned: the server ended while it was at it, three times, or reading the repository takes " +
			"more than the service gives.", "Mend what is unusual in the repository, or `piston pushes retry`."},
	{"fewer-tests", definition.Warning, "A run passed with many fewer test cases than the last one that did.",
		"Look for what no longer runs."},
	{"not-taken", definition.Error,
		"A script needs a file that another job makes, on a machine of its own, and the job does not take it.",
		"`hand` it on there and `take` it here."},
	{"hidden-failure", definition.Warning,
		"A command whose failure does not fail the step: behind a pipe in sh, before `|| true`, or after `set +e`.",
		"`shell = \"bash\"` makes a pipe fail with any of its commands. A step that may fail says `advisory = true`."},
	{"not-in-sh", definition.Error,
		"A word of bash in a script that runs in sh: `[[` is a program that there is not, so a condition with it is never " +
			"true, and what it guards never runs.", "`shell = \"bash\"`, or write it as sh knows it."},
	{"crlf", definition.Error,
		"A script, or the first line of a file it calls, ends its lines with a carriage return; the system then looks for " +
			"an interpreter of that name.", "Save it with line ends of Unix, and add `* text=auto eol=lf` to .gitattributes."},
	{"unset-variable", definition.Warning, "A script uses a variable that nothing sets.",
		"Set it, list the secret, or write `${NAME:-}` where it may be empty."},
	{"shallow-history", definition.Warning,
		"A script, or a build file, asks Git for history that the checkout does not have: a count of commits is then " +
			"always 1.", "`history = \"full\"` in the job."},
	{"other-system", definition.Error,
		"A job calls a program, or asks for a tool, that is on another system only than the one it asks for.",
		"Correct `machine`."},
	{"no-network", definition.Error, "A step without network fetches something.",
		"Fetch in a step before it, or take `network` out."},
	{"same-name", definition.Warning, "Variants of a job keep packages of one name.",
		"Put the variant's value into the name."},
	{"secret-in-proposal", definition.Warning, "A step asks for a secret in a pipeline that proposals start.",
		"Give it `when = 'trusted'`."},
	{"unused-input", definition.Warning, "An input that nothing uses.", "Use it, or remove it."},
	{"unused-part", definition.Warning, "A part that no pipeline uses.", "Use it, or remove it."},
	{"merge-marker", definition.Error, "A tracked file holds the marks of a merge that was not settled.",
		"Settle it, and commit."},
	{"lfs-pointer", definition.Warning,
		"A file of the work tree is a pointer of Git LFS and not what it stands for. A job has the file where " +
			"`.gitattributes` says `filter=lfs` and the project's remote serves it.",
		"`git lfs pull`; where the remote does not serve it, track the file itself."},
	{"submodule-refused", definition.Warning, "A submodule is at an address that runners do not fetch from.",
		"Use an https address, name a key for it in the job's `submodules`, or lend the project that has it."},
	{"lock-misfit", definition.Warning, "A lock file does not have what the manifest beside it asks for.",
		"Install once on your machine, and commit both."},
	{"lock-ignored", definition.Warning,
		"A lock file is on this machine, and Git does not have it, so that each build may fetch something else.",
		"Track it."},
	{"ignored-file", definition.Warning,
		"A tracked file speaks of a file that is on this machine and that .gitignore hides.",
		"Track it; or, when it is a secret, `piston secret set` it and name it in `secret_files`."},
	{"letter-case", definition.Error,
		"A source names a file of the repository in other letters than Git has it; where capitals and small letters are " +
			"told apart, that file is not there.", "Write it as it is."},
	{"no-common-group", definition.Warning, "Two pipelines publish, tag or push, and may do so at the same moment.",
		"Give both the same `group`."},
	{"secret-elsewhere", definition.Warning,
		"A secret's file is put at another place than the one where the build looks for it.",
		"Correct the path in `secret_files`; it counts from the top of the workspace."},
	{"unused-secret", definition.Warning, "A step is given a secret that nothing in the repository speaks of.",
		"Take it out of `secrets`: what a step does not have it cannot leak."},
	{"keeps-sources", definition.Warning,
		"What a job keeps are files of the repository, or what a build needs on its way, and no package.",
		"Name what somebody will want to have."},
	{"unreadable-file", definition.Error, "A pipeline file cannot be read.", "Make it a plain file."},
}

// severities gives each code's.
var severities = func() map[string]definition.Severity {
	m := map[string]definition.Severity{}
	for _, c := range Codes {
		m[c.Name] = c.Severity
	}
	return m
}()

// New makes a finding of one of the codes about a pipeline.
func New(p *definition.Pipeline, code, message, fix string, at definition.Place) definition.Finding {
	return p.Finding(code, severities[code], message, fix, at)
}

// About makes a finding of one of the codes about a whole file.
func About(code, file, message, fix string) definition.Finding {
	return whole(code, file, message, fix)
}

// WriteReference writes the page of findings, in Markdown.
func WriteReference(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# What piston check finds\n\nMade from the program by `make reference`; do not edit. Errors fail a " +
		"run before it begins; warnings are shown and the run\n" +
		"goes on. A pipeline that knows better says so: `allow = [\"CODE\"]` at the top of its file.\n\n" +
		"`piston check` ends with 0 when nothing was found, 1 on errors, 4 on warnings only. `--sarif` writes SARIF 2.1.0.\n")
	for _, c := range Codes {
		fmt.Fprintf(&b, "\n## %s\n\n%s. %s\n\nMend: %s\n", c.Name,
			strings.ToUpper(string(c.Severity[:1]))+string(c.Severity[1:]), c.Means, c.Mend)
	}
	b.WriteString("\n## Of the format\n\nThese are errors in any case; the message says what is allowed where.\n\n| " +
		"code | meaning |\n| --- | --- |\n")
	for _, c := range definition.Codes {
		fmt.Fprintf(&b, "| `%s` | %s |\n", c.Name, c.Means)
	}
	b.WriteString("\n## Of the checklist\n\nWhat a step with `checklist` holds packages against. What is against a rule " +
		"fails the step, but for advice; `accept` in `piston/app.toml` lets it\npass until a day.\n")
	for _, r := range definition.ListRules {
		level := map[bool]string{true: "Advice", false: "Error"}[r.Advice]
		fmt.Fprintf(&b, "\n### %s\n\n%s. %s %s\n", r.Name, level, r.Wants, r.Why)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func itoa(n int) string { return strconv.Itoa(n) }
