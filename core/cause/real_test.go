package cause

import (
	"context"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// made are failures as the real tools tell them, each made by a script in an empty folder. What a machine lacks is left
// out; the first word of a row says which tool that is.
var made = []struct{ tool, want, script string }{
	{"cc", "unresolved-name", `printf 'int main(void){return hihg;}\n' > a.c; cc a.c`},
	{"cc", "header-missing", `printf '#include "harbour.h"\n' > a.c; cc -c a.c`},
	{"cc", "syntax", `printf 'int main(void){return 1\n}\n' > a.c; cc a.c`},
	{"cc", "warnings-are-errors", `printf 'int main(void){int x;return 0;}\n' > a.c; cc -Wall -Werror a.c`},
	{"cc", "undefined-symbol", `printf 'int high(void);int main(void){return high();}\n' > a.c; cc a.c`},
	{"cc", "duplicate-symbol", `printf 'int high(void){return 1;}\n' > a.c; cp a.c b.c
		printf 'int main(void){return 0;}\n' > c.c; cc a.c b.c c.c`},
	{"cc", "library-missing", `printf 'int main(void){return 0;}\n' > a.c; cc a.c -ltidewick`},
	{"cc", "assertion", `printf '#include <assert.h>\nint main(void){assert(1 > 2);}\n' > a.c; cc a.c; sh -c ./a.out`},
	{"cc", "crash", `printf 'int main(void){*(volatile int*)0=1;}\n' > a.c; cc a.c; sh -c './a.out; exit $?'; bash -c ./a.out`},
	{"clang", "unresolved-name", `printf 'int main(void){return hihg;}\n' > a.c; clang a.c`},
	{"clang", "header-missing", `printf '#include "harbour.h"\n' > a.c; clang -c a.c`},
	{"clang", "types", `printf 'struct s {int a;}; int f(struct s v){return v.b;}\n' > a.c; clang -c a.c`},
	{"ld.lld", "undefined-symbol", `printf 'int high(void);int go(void){return high();}\n' > a.c; cc -c a.c
		ld.lld a.o -e go -o a`},
	{"ld.lld", "duplicate-symbol", `printf 'int go(void){return 1;}\n' > a.c; cc -c a.c; cp a.o b.o; ld.lld a.o b.o -e go -o a`},
	{"ld.lld", "library-missing", `printf 'int go(void){return 1;}\n' > a.c; cc -c a.c; ld.lld a.o -ltidewick -e go -o a`},
	{"make", "make-rule", `printf 'all: tide.o\n' > Makefile; make`},
	{"make", "make-tab", `printf 'all:\n  true\n' > Makefile; make`},
	{"go", "unresolved-name", `printf 'module x\n' > go.mod; printf 'package main\nfunc main() { highWater() }\n' > a.go; go build`},
	{"go", "types", `printf 'module x\n' > go.mod; printf 'package main\nfunc main() { var a int = "x"; _ = a }\n' > a.go; go vet`},
	{"go", "offline-miss", `printf 'module x\n' > go.mod
		printf 'package main\nimport _ "example.com/tide"\nfunc main() {}\n' > a.go; GOFLAGS=-mod=mod GOPROXY=off go build`},
	{"go", "engine-version", `printf 'module x\n\ngo 1.99\n' > go.mod; printf 'package main\nfunc main() {}\n' > a.go
		GOTOOLCHAIN=local go build`},
	{"go", "assertion", `printf 'module x\n' > go.mod
		printf 'package x\nimport "testing"\nfunc TestA(t *testing.T) { t.Error("low") }\n' > a_test.go; go test`},
	{"node", "js-module", `printf 'require("left-tide")\n' > a.js; node a.js`},
	{"node", "syntax", `printf 'let a = {{;\n' > a.js; node a.js`},
	{"node", "json", `printf 'JSON.parse("<html>")\n' > a.js; node a.js`},
	{"node", "file-missing", `printf 'require("fs").readFileSync("a.json")\n' > a.js; node a.js`},
	{"node", "port-used", `printf 'const n=require("net");const s=n.createServer().listen(0,"127.0.0.1",()=>
		n.createServer().listen(s.address().port,"127.0.0.1"));' > a.js; timeout 20 node a.js`},
	{"npm", "lock-stale", `printf '{"name":"a","version":"1.0.0","dependencies":{"b":"file:b"}}' > package.json
		mkdir b; printf '{"name":"b","version":"1.0.0"}' > b/package.json
		printf '{"name":"a","version":"1.0.0","lockfileVersion":3,"packages":{"":{"name":"a","version":"1.0.0"}}}' \
		> package-lock.json; npm ci --offline`},
	{"npm", "offline-miss", `printf '{"name":"a","dependencies":{"tide-almanac-none":"1"}}' > package.json; npm i --offline`},
	{"python3", "python-module", `python3 -c 'import tidewick'`},
	{"python3", "encoding", `printf 'b"\\xc3".decode("ascii")\n' > a.py; python3 a.py`},
	{"python3", "unset-variable", `python3 -c 'import os; os.environ["TIDE_TOKEN"]'`},
	{"git", "git-no-repository", `GIT_CEILING_DIRECTORIES=$PWD git -C / status`},
	{"git", "git-ref", `git init -q .; git checkout none`},
	{"git", "git-shallow", `git init -q .; git -c user.name=a -c user.email=a commit -q --allow-empty -m a; git describe`},
	{"git", "tag-exists", `git init -q .; git -c user.name=a -c user.email=a commit -q --allow-empty -m a; git tag v1; git tag v1`},
	{"git", "git-lock", `git init -q .; touch .git/index.lock; touch a; git add a`},
	{"git", "git-conflict", `git init -q -b main .; git config user.name a; git config user.email a
		echo 1 > a; git add a; git commit -qm 1; git checkout -qb b; echo 2 > a; git commit -qam 2
		git checkout -q main; echo 3 > a; git commit -qam 3; git merge b`},
	{"git", "git-rejected", `git init -q --bare r; git clone -q r a; git clone -q r b
		for d in a b; do git -C $d -c user.name=a -c user.email=a commit -q --allow-empty -m $d; done
		git -C a push -q origin HEAD:m; git -C b push origin HEAD:m`},
	{"git", "no-answer", `git clone http://127.0.0.1:9/x`},
	{"tar", "archive", `echo no > a.tar.gz; tar xzf a.tar.gz`},
	{"sh", "program-missing", `sh -c 'tidewick-none'`},
	{"sh", "not-a-program", `echo true > a; chmod 600 a; sh -c ./a`},
	{"sh", "file-missing", `cat none/of/these`},
	{"sh", "unset-variable", `sh -uc 'echo $TIDE_TOKEN'`},
	{"sh", "syntax", `sh -c 'if true; then'`},
	{"sh", "carriage-return", `printf '#!/bin/sh\r\ntrue\n' > a; chmod +x a; env -S 'sh -c ./a'; printf '#!/usr/bin/env sh\r\n' > b
		chmod +x b; ./b`},
	{"bash", "no-interpreter", `printf '#!/no/such/interp\n' > a; chmod +x a; bash -c ./a`},
	{"bash", "wrong-machine", `printf '\177ELF\002\001\001xxxxxxxxxxxx' > a; chmod +x a; bash -c ./a`},
	{"curl", "no-answer", `curl -sS http://127.0.0.1:9/`},
	{"curl", "no-host", `curl -sS http://tidewick.invalid/`},
	{"aapt", "xml", `printf '<manifest><a></manifest>' > AndroidManifest.xml; aapt package -M AndroidManifest.xml -F a.apk`},
	{"apksigner", "key-missing", `printf x > a.apk; apksigner sign --ks release.jks --ks-pass pass:x a.apk`},
	{"javac", "unresolved-name", `printf 'class A { void a() { high(); } }\n' > A.java; javac A.java`},
	{"javac", "java-level", `printf 'class A {}\n' > A.java; javac --release 99 A.java`},
}

func TestRealToolsAreUnderstood(t *testing.T) {
	ran := 0
	cache, _ := exec.CommandContext(t.Context(), "go", "env", "GOCACHE").Output() // what is compiled need not be again
	for _, m := range made {
		if _, err := exec.LookPath(m.tool); err != nil {
			continue
		}
		ran++
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		cmd := exec.CommandContext(ctx, "sh", "-c", m.script)
		cmd.Dir = t.TempDir()
		cmd.Env = append(cmd.Environ(), "LC_ALL=C", "HOME="+cmd.Dir, "GOCACHE="+strings.TrimSpace(string(cache)))
		text, err := cmd.CombinedOutput()
		cancel()
		if !assert.Error(t, err, "%s did not fail: %s", m.script, text) {
			continue
		}
		got, _, is := builtIn().Of(strings.Split(string(text), "\n"))
		assert.True(t, is && got.Name == m.want, "%s says\n%s\nwhich is told as %q, not %q", m.tool, text, got.Name, m.want)
	}
	assert.GreaterOrEqual(t, ran, 30, "of those that could be made here")
}
