package projects

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/service/ground"
)

func TestRemotesThatAreRefused(t *testing.T) {
	for _, ok := range []string{"/srv/git/a.git", "https://host.example/a.git", "http://127.0.0.1:80/a"} {
		assert.NoError(t, checkRemote(ok), ok)
	}
	for _, bad := range []string{"", "relative", "/srv/../etc", "/srv/a/", "ssh://x/y", "ext::sh -c id", "file:///etc", "--upload-pack=x", "https://", "https://u:p@h/x", "https://token@h/x"} {
		assert.ErrorIs(t, checkRemote(bad), ground.ErrInvalid, bad)
	}
}
