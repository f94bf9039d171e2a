package diagnose

import (
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"strings"

	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/reach"
)

// Failed is how a step failed, as far as its cause may lie in that.
type Failed struct {
	Code    int    // exit code
	Network string // the step's: outside, none, host
}

var (
	// What resolvers, curl, wget, git, npm, gradle, python and go say when there is no way to a host.
	noWay = regexp.MustCompile(`(?i)could ?n.t resolve|could not resolve|name or service not known|temporary failure ` +
		`in name resolution|` +
		`network is unreachable|no route to host|getaddrinfo|EAI_AGAIN|ENOTFOUND|ENETUNREACH|unknownhostexception|unable ` +
		`to resolve host`)
	// What they say when a host does not answer.
	noAnswer = regexp.MustCompile(`(?i)connection refused|ECONNREFUSED|failed to connect|could ?n.t connect|could not ` +
		`connect|unable to connect|` +
		`connection timed out|ETIMEDOUT|no route to host|network is unreachable|EHOSTUNREACH`)
	address = regexp.MustCompile(`(?:^|[^\w.])(localhost|(?:\d{1,3}\.){3}\d{1,3}|\[[0-9a-fA-F:]+\])(?:(?::| port ` +
		`)(\d{1,5}))?`)
	// What shells say of a program that is not there: "sh: 3: ninja: not found", "bash: line 1: ninja: command not found".
	noProgram = regexp.MustCompile(`(?:^|: )([\w.+@-]+): (?:command )?not found`)
	// And of a file that is none: "sh: 1: ./gradlew: Permission denied".
	noRight  = regexp.MustCompile(`(?:^|: )(\.{0,2}/?[\w.+@/-]+): Permission denied`)
	carriage = regexp.MustCompile(`\^M: bad interpreter|\\r['’]?: No such file|bad interpreter: .*\r`)
	fullDisk = regexp.MustCompile(`(?i)no space left on device|ENOSPC`)
)

// Cause tells why a step failed, and how to mend it, when its last lines say so and the person who reads them may not
// know; "" otherwise.
func (c *Collector) Cause(f Failed) string {
	if f.Network == "none" && c.line(noWay) != "" {
		return "the step has no network: take network = \"none\" out, or fetch in a step before it"
	}
	if text := c.line(noAnswer); text != "" && f.Network == "outside" {
		if why := inside(text); why != "" {
			return why
		}
	}
	switch f.Code {
	case 127:
		if m := c.match(noProgram); m != nil {
			return fmt.Sprintf("this runner has no program %s: ask for it, tools = { %s = \"*\" }, and the job goes to a "+
				"runner that has it", m[1], quotedKey(m[1]))
		}
	case 126:
		if m := c.match(noRight); m != nil {
			return fmt.Sprintf("%s is not a program to Git: git update-index --chmod=+x %s", m[1],
				strings.TrimPrefix(m[1], "./"))
		}
	}
	switch {
	case c.line(carriage) != "":
		return "a script's lines end with a carriage return: save it with line ends of Unix, and add * text=auto eol=lf " +
			"to .gitattributes"
	case c.line(fullDisk) != "":
		return "the runner's disk is full"
	case f.Code == 137:
		return "it was killed, as the system does when memory runs out"
	}
	return ""
}

// inside says why an address that a line names is not reached; "" when it names none that is inside.
func inside(text string) string {
	for _, m := range address.FindAllStringSubmatch(text, -1) {
		host, port := strings.Trim(m[1], "[]"), m[2]
		a, err := netip.ParseAddr(host)
		if port != "" {
			host = net.JoinHostPort(host, port)
		}
		switch {
		case m[1] == "localhost" || err == nil && a.IsLoopback():
			why := "each job has a loopback of its own, on which the machine's services are not: start what it needs in the job"
			if port != "" {
				why += ", or let it through by --let-through " + host
			}
			return why
		case err == nil && !reach.World(a):
			return fmt.Sprintf("%s is inside, where steps do not go; a runner's owner lets it through by --let-through %s", m[1],
				host)
		}
	}
	return ""
}

// quotedKey writes a name as a key of TOML.
func quotedKey(name string) string {
	if strings.ContainsAny(name, ".+@") {
		return `"` + name + `"`
	}
	return name
}

// line finds a line that an expression knows, the last such.
func (c *Collector) line(e *regexp.Regexp) string {
	for _, lines := range [][]logline.Line{c.tail, c.picked} {
		for i := len(lines) - 1; i >= 0; i-- {
			if text := logline.Plain(lines[i].Text); e.MatchString(text) {
				return text
			}
		}
	}
	return ""
}

func (c *Collector) match(e *regexp.Regexp) []string { return e.FindStringSubmatch(c.line(e)) }
