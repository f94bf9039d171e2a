package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/logline"
)

func TestTheCauseOfAFailure(t *testing.T) {
	for _, c := range []struct {
		text string
		how  Failed
		want string // a part of it; "" for none
	}{
		{"curl: (6) Could not resolve host: depot.example", Failed{6, "none"}, "the step has no network"},
		{"npm ERR! code EAI_AGAIN", Failed{1, "none"}, "the step has no network"},
		{"fatal: unable to access 'https://a.example/': Could not resolve host: a.example", Failed{128, "none"}, "the step has no network"},
		{"java.net.UnknownHostException: repo.example", Failed{1, "none"}, "the step has no network"},
		{"curl: (6) Could not resolve host: depot.example", Failed{6, "outside"}, ""},
		{"curl: (7) Failed to connect to 10.1.2.3 port 8443 after 0 ms: Couldn't connect to server", Failed{7, "outside"}, "--let-through 10.1.2.3:8443"},
		{"dial tcp [fd00::7]:443: connect: no route to host", Failed{1, "outside"}, "--let-through [fd00::7]:443"},
		{"curl: (7) Failed to connect to localhost port 5432: Connection refused", Failed{7, "outside"}, "a loopback of its own"},
		{"connect ECONNREFUSED 127.0.0.1:5432", Failed{1, "outside"}, "a loopback of its own"},
		{"connect ECONNREFUSED 127.0.0.1:5432", Failed{1, "host"}, ""},
		{"curl: (7) Failed to connect to 93.184.216.34 port 443", Failed{7, "outside"}, ""},
		{"version 10.1.2.3 is not supported", Failed{1, "outside"}, ""},
		{"sh: 3: ninja: not found", Failed{127, "outside"}, "tools = { ninja = \"*\" }"},
		{"/run/piston/step: line 1: g++-12: command not found", Failed{127, "outside"}, `{ "g++-12" = "*" }`},
		{"\x1b[31mbash: gradle: command not found\x1b[0m", Failed{127, "outside"}, "no program gradle"},
		{"grep: ninja: not found", Failed{1, "outside"}, ""},
		{"sh: 1: ./gradlew: Permission denied", Failed{126, "outside"}, "git update-index --chmod=+x gradlew"},
		{"/bin/sh^M: bad interpreter: No such file or directory", Failed{126, "outside"}, "carriage return"},
		{"env: 'sh\\r': No such file or directory", Failed{127, "outside"}, "carriage return"},
		{"cp: error writing 'b': No space left on device", Failed{1, "outside"}, "disk is full"},
		{"", Failed{137, "outside"}, "killed"},
		{"error: use of undeclared identifier", Failed{1, "outside"}, ""},
	} {
		var lines Collector
		lines.Add(logline.Line{N: 1, Text: "before"})
		lines.Add(logline.Line{N: 2, Text: c.text})
		got := lines.Cause(c.how)
		if c.want == "" {
			assert.Empty(t, got, c.text)
		} else {
			assert.Contains(t, got, c.want, c.text)
		}
	}
}
