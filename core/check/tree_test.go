package check

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/definition"
)

// worktree is a tree of tracked files with others beside them on the disk.
type worktree struct {
	tracked map[string]string
	loose   []string
	ignored []string
}

func (w worktree) check() []definition.Finding {
	r := here(w.tracked)
	tracked := r.OnDisk
	r.OnDisk = func(name string) bool {
		return tracked(name) || slices.Contains(w.loose, name) || slices.Contains(w.ignored, name)
	}
	result := All(r, nil)
	result.Findings = append(result.Findings, Untracked(r, result.Files, w.loose, w.ignored)...)
	return result.All()
}

const npmLock = `{"packages": {"": {"dependencies": {"tides": "^1.2.0"}, "devDependencies": {"x": "1"}}, "node_modules/tides": {}}}`

func TestMistakesOfWorkTrees(t *testing.T) {
	files := func(more ...string) map[string]string {
		m := map[string]string{"piston/p.toml": push("true")}
		for i := 0; i < len(more); i += 2 {
			m[more[i]] = more[i+1]
		}
		return m
	}
	secretAt := func(at string) string {
		return "[trigger.push]\n[[job.a.step]]\nscript = \"make\"\nsecret_files = { SERVICES = \"" + at + "\" }\n"
	}
	publishes := func(group, script string) string {
		return group + "[trigger.push]\n[[job.a.step]]\nscript = '''\n" + script + "\n'''\n"
	}
	for _, m := range []struct {
		name, code   string
		wrong, right worktree
	}{
		{"a lock file of npm from before", "lock-misfit",
			worktree{tracked: files("package.json", `{"dependencies": {"tides": "^1.3.0"}}`, "package-lock.json", npmLock)},
			worktree{tracked: files("package.json", `{"dependencies": {"tides": "^1.2.0"}, "devDependencies": {"x": "1"}}`, "package-lock.json", npmLock)}},
		{"a lock file of pub from before", "lock-misfit",
			worktree{tracked: files("pubspec.yaml", "name: tides\ndependencies:\n  sdk_x:\n    sdk: x\n  path: ^1.0.0\n\ndev_dependencies:\n  lints: any\n", "pubspec.lock", "packages:\n  sdk_x:\n    v: 1\n  path:\n    v: 1\n")},
			worktree{tracked: files("pubspec.yaml", "name: tides\ndependencies:\n  # a word\n  path: ^1.0.0\ndependency_overrides:\n  other: any\n", "pubspec.lock", "packages:\n  path:\n    v: 1\n")}},
		{"a pod that is not locked", "lock-misfit",
			worktree{tracked: files("Podfile", "target 'A' do\n  pod 'Charts', '~> 2'\nend\n", "Podfile.lock", "DEPENDENCIES:\n  - Other\n")},
			worktree{tracked: files("Podfile", "  pod 'Charts/Core', '~> 2'\n  # pod 'None'\n", "Podfile.lock", "DEPENDENCIES:\n  - Charts/Core (~> 2)\n")}},
		{"a lock file that is ignored", "lock-ignored",
			worktree{tracked: files("app/package.json", "{}"), ignored: []string{"app/package-lock.json"}},
			worktree{tracked: files("app/package.json", "{}", "app/yarn.lock", ""), ignored: []string{"app/package-lock.json"}}},
		{"a header that was never added", "not-tracked",
			worktree{tracked: files("core/tide.c", "#include \"extra.h\"\n"), loose: []string{"core/extra.h"}},
			worktree{tracked: files("core/tide.c", "#include \"extras.h\"\n", "core/extras.h", ""), loose: []string{"core/extra.h"}}},
		{"settings that are ignored", "ignored-file",
			worktree{tracked: files("app/build.gradle", "def p = file('signing.properties')\n"), ignored: []string{"app/signing.properties"}},
			worktree{tracked: map[string]string{"piston/p.toml": secretAt("app/signing.properties"), "Makefile": "", "app/build.gradle": "def p = file('signing.properties'); file('local.properties')\n"},
				ignored: []string{"app/signing.properties", "local.properties", "node_modules/signing.properties"}}},
		{"a source that is ignored", "ignored-file",
			worktree{tracked: files("core/a.c", "#include \"config.h\"\n"), ignored: []string{"core/config.h"}},
			worktree{tracked: files("core/a.c", "#include \"config.h\"\n", "Makefile", "core/config.h: VERSION\n\ttools/config > $@\n"), ignored: []string{"core/config.h"}}},
		{"a header in other letters", "letter-case",
			worktree{tracked: files("core/a.c", "#include \"Tide.h\"\n", "core/tide.h", "")},
			worktree{tracked: files("core/a.c", "#include \"tide.h\"\n#include \"gone.h\"\n#include <Tide.h>\n", "core/tide.h", "")}},
		{"a module in other letters", "letter-case",
			worktree{tracked: files("src/app.tsx", "import { Chart } from './parts/chart';\n", "src/parts/Chart.tsx", "")},
			worktree{tracked: files("src/app.tsx", "import { Chart } from './parts/Chart';\nimport x from './parts';\nimport y from '../../out';\nimport React from 'React';\n", "src/parts/Chart.tsx", "", "src/parts/index.ts", "")}},
		{"an artifact in other letters", "artifact-unwritten",
			worktree{tracked: map[string]string{"piston/p.toml": push("tools/pack ringlog.apk", "[job.a.keep.app]", `files = ["Ringlog.apk"]`), "tools/pack": "#!/bin/sh\n"}},
			worktree{tracked: map[string]string{"piston/p.toml": push("tools/pack Ringlog.apk", "[job.a.keep.app]", `files = ["Ringlog.apk"]`), "tools/pack": "#!/bin/sh\n"}}},
		{"two that publish", "no-common-group",
			worktree{tracked: map[string]string{"piston/a.toml": publishes("", "git tag v1\ngit push origin v1"), "piston/b.toml": publishes("group = \"b\"\n", "make && npm publish"), "Makefile": ""}},
			worktree{tracked: map[string]string{"piston/a.toml": publishes("group = \"out\"\n", "git push origin v1"), "piston/b.toml": publishes("group = \"out\"\n", "npm publish"), "piston/c.toml": publishes("", "git fetch; npm test")}}},
		{"two whose scripts publish", "no-common-group",
			worktree{tracked: map[string]string{"piston/a.toml": publishes("", "tools/out"), "piston/b.toml": publishes("", "sh tools/out"), "tools/out": "#!/bin/sh\ncurl -fsS -T out/app.apk https://files.tidewick.example/\n"}},
			worktree{tracked: map[string]string{"piston/a.toml": publishes("", "tools/out"), "piston/b.toml": publishes("", "make"), "Makefile": "", "tools/out": "#!/bin/sh\ncurl -fsS -T out/app.apk https://files.tidewick.example/\n"}}},
		{"a secret's file beside its place", "secret-elsewhere",
			worktree{tracked: map[string]string{"piston/p.toml": secretAt("services.json"), "Makefile": "", ".gitignore": "/app/services.json\nout/\n"}},
			worktree{tracked: map[string]string{"piston/p.toml": secretAt("app/services.json"), "Makefile": "", "app/.gitignore": "/services.json\n", ".gitignore": "*.json\n"}}},
		{"a secret that nothing speaks of", "unused-secret",
			worktree{tracked: map[string]string{"piston/p.toml": push("make", `secrets = ["FEED_KEY"]`), "Makefile": "all:\n\techo\n"}},
			worktree{tracked: map[string]string{"piston/p.toml": push("make", `secrets = ["FEED_KEY"]`) + "[[job.a.step]]\nscript = \"upload out/app\"\nsecrets = [\"UPLOAD_TOKEN\"]\n", "Makefile": "all:\n\tcurl -u $$FEED_KEY\n"}}},
		{"everything is kept", "keeps-sources",
			worktree{tracked: map[string]string{"piston/p.toml": push("ninja app/out.apk", "[job.a.keep.app]", `files = ["app/**"]`), "app/a.c": "", "app/b.c": "", "app/c.c": ""}},
			worktree{tracked: map[string]string{"piston/p.toml": push("ninja app/out.apk", "[job.a.keep.app]", `files = ["app/*.apk", "docs/*"]`), "app/a.c": "", "app/b.c": "", "app/c.c": "", "docs/notes.md": ""}}},
		{"what is on the way is kept", "keeps-sources",
			worktree{tracked: map[string]string{"piston/p.toml": push("ninja", "[job.a.keep.app]", `files = ["app/build/intermediates/**"]`)}},
			worktree{tracked: map[string]string{"piston/p.toml": push("ninja", "[job.a.keep.app]", `files = ["app/build/outputs/**"]`)}}},
	} {
		t.Run(m.name, func(t *testing.T) {
			found := m.wrong.check()
			i := slices.IndexFunc(found, func(f definition.Finding) bool { return f.Code == m.code })
			if assert.GreaterOrEqual(t, i, 0, "%v", found) {
				assert.NotEmpty(t, found[i].Fix)
				assert.NotEmpty(t, found[i].File)
			}
			for _, f := range m.right.check() {
				assert.NotEqual(t, m.code, f.Code, "%s", f)
			}
		})
	}
}
