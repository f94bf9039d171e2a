package reach

import (
	"net"
	"net/url"
	"regexp"
	"strings"
)

// Keyed is a repository on a host that is reached by SSH.
type Keyed struct{ User, Host, Path string } // Host has its port

// shortForm is [USER@]HOST:PATH (git-fetch(1), Git URLs); a slash before the colon makes it a path.
var shortForm = regexp.MustCompile(`^(?:([^@/:\s]+)@)?([^@/:\[\]\s]+):(.+)$`)

// BySSH reads an address by ssh in the forms Git knows; ok is false for any other.
func BySSH(address string) (to Keyed, ok bool) {
	if !strings.Contains(address, "://") {
		m := shortForm.FindStringSubmatch(address)
		if m == nil || strings.HasPrefix(m[3], ":") { // HOST::PATH is for another program
			return to, false
		}
		return Keyed{orGit(m[1]), net.JoinHostPort(strings.ToLower(m[2]), "22"), m[3]}, true
	}
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "ssh" && u.Scheme != "git+ssh" && u.Scheme != "ssh+git" {
		return to, false
	}
	port, at := u.Port(), u.Path
	if port == "" {
		port = "22"
	}
	if strings.HasPrefix(at, "/~") {
		at = at[1:]
	}
	return Keyed{orGit(u.User.Username()), net.JoinHostPort(strings.ToLower(u.Hostname()), port), at}, true
}

// orGit is the user at most hosts of repositories, where none is named.
func orGit(user string) string {
	if user == "" {
		return "git"
	}
	return user
}
