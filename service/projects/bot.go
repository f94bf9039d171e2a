package projects

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"unicode"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/reach"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// SetBot says who commits what a project's runs land, and how that is pushed.
func (s *Projects) SetBot(ctx context.Context, project string, in api.Bot) (api.Project, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Project{}, err
	}
	if err := checkBot(in, p.Remote); err != nil {
		return api.Project{}, err
	}
	f := fact.Fact{Kind: fact.ProjectBot, Project: project, Before: api.Bot(p.Bot), After: in}
	if err := s.Acting(ctx, f, func(q ground.Q) error { return q.SetBot(ctx, p.ID, store.Bot(in)) }); err != nil {
		return api.Project{}, err
	}
	return s.Project(ctx, project)
}

func checkBot(in api.Bot, remote string) error {
	invalid := func(format string, args ...any) error {
		return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ground.ErrInvalid)
	}
	// Git takes these out of a person without a word (git-commit-tree(1), Commit information).
	odd := func(r rune) bool { return unicode.IsControl(r) || strings.ContainsRune("<>", r) }
	if strings.ContainsFunc(in.Name+in.Email, odd) {
		return invalid("a bot's name or address holds < or >, or a control character")
	}
	if in.Email != "" && (!strings.Contains(in.Email, "@") || strings.Contains(in.Email, " ")) {
		return invalid("%.60q is no address of a bot: write it as bot@tidewick.example", in.Email)
	}
	if in.PushTo == "" {
		if in.PushHost != "" {
			return invalid("a host's key says nothing without an address to push to")
		}
		return nil
	}
	to, ok := reach.BySSH(in.PushTo)
	if !ok {
		return invalid("%.100q is no address by ssh: write it as ssh://git@git.tidewick.example/almanac.git", in.PushTo)
	}
	read, err := url.Parse(remote)
	if err != nil || read.Hostname() == "" {
		return invalid("the repository is on the service's own disk: it is pushed to there")
	}
	// Whoever may say where is pushed to must not make the service speak to another host.
	if host, _, _ := net.SplitHostPort(to.Host); !strings.EqualFold(host, read.Hostname()) {
		return invalid("it is read from %s, and pushed to there, not to %s", read.Hostname(), host)
	}
	at, _, err := definition.HostKey(in.PushHost)
	if err != nil {
		return invalid("the key of %s is not given as ssh-keyscan prints it: %v", to.Host, err)
	}
	if at != to.Host {
		return invalid("the key is that of %s, and pushes go to %s", at, to.Host)
	}
	return nil
}
