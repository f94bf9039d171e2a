package check

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// keyFiles recognises by name files that hold a private key: keystores of Java and of PKCS#12 (RFC 7292), App Store
// keys, SSH keys.
var keyFiles = regexp.MustCompile(`(?i)\.(jks|keystore|p12|pfx|p8|mobileprovision)$|^id_(rsa|ed25519|ecdsa)$`)

// harmless are keystores whose key everyone has.
var harmless = regexp.MustCompile(`(?i)^debug\.keystore$`)

// suspects are files worth reading for keys and passwords.
var suspects = regexp.MustCompile(`(?i)\.(pem|key|properties|env|gradle|kts|json|ya?ml|toml|xcconfig|netrc)$|^\.env|` +
	`^\.netrc$|^\.npmrc$`)

// secretText recognises a private key (RFC 7468, section 10) and what gives a password its value.
var secretText = []struct {
	form *regexp.Regexp
	what string
}{
	{regexp.MustCompile(`-----BEGIN (?:[A-Z]+ )?PRIVATE KEY-----`), "a private key"},
	{regexp.MustCompile(`(?im)^\s*(?:store|key)password\s*[= ]\s*["']?([^\s"'${(]{4,})`), "the password of a keystore"},
	{regexp.MustCompile(`"type"\s*:\s*"service_account"`), "the key of a service account"},
	{regexp.MustCompile(`(?im)^\s*//[^\s]+:_authToken\s*=\s*[^\s${]{8,}`), "a registry's token"},
}

// machineFiles describe one person's machine.
var machineFiles = regexp.MustCompile(`(?m)^(?:sdk|ndk|flutter)\.(?:sdk|dir)\s*=\s*(\S+)`)

// maxSuspect is the most bytes of a file that is looked at.
const maxSuspect = 256 << 10

// tracked finds keys, passwords and paths of somebody's machine among the files that Git tracks.
func tracked(t *Tree) (found []definition.Finding) {
	for _, e := range t.Entries {
		base := path.Base(e.Path)
		if e.Submodule || harmless.MatchString(base) {
			continue
		}
		if keyFiles.MatchString(base) {
			found = append(found,
				whole("key-tracked", e.Path, "Git tracks "+e.Path+", which holds a private key or a signing profile",
					fmt.Sprintf("git rm --cached %s; make a new key, and piston secret set PROJECT NAME --file it. The old one "+
						"stays in the history.", e.Path)))
			continue
		}
		if !suspects.MatchString(base) && base != "local.properties" {
			continue
		}
		text := t.text(e.Path)
		if len(text) > maxSuspect {
			text = text[:maxSuspect]
		}
		for _, s := range secretText {
			for _, at := range s.form.FindAllStringSubmatchIndex(text, 50) {
				if len(at) > 2 && text[at[2]:at[3]] == "android" { // of the debug keystore, whose password everybody knows
					continue
				}
				f := whole("key-tracked", e.Path, "Git tracks "+s.what,
					"Take it out, make a new one, and set it as a secret. The old one stays in the history.")
				f.Line = strings.Count(text[:at[0]], "\n") + 1
				found = append(found, f)
				break
			}
		}
		if at := machineFiles.FindStringSubmatchIndex(text); at != nil && base == "local.properties" {
			f := whole("machine-path", e.Path,
				fmt.Sprintf("%s is a path of somebody's machine, in a file that Git tracks", text[at[2]:at[3]]),
				"git rm --cached "+e.Path+", and ignore it.")
			f.Line = strings.Count(text[:at[0]], "\n") + 1
			found = append(found, f)
		}
	}
	return found
}
