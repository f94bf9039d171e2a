package gates

import (
	"context"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// person is somebody who may want to answer. What was found of them is remembered, so that it is asked once for a list
// of gates.
type person struct {
	ground.Who
	groups []string // nil: not yet asked for
	roles  map[string]access.Role
}

func someone(w ground.Who) *person { return &person{Who: w, roles: map[string]access.Role{}} }

// mayNot tells why somebody may not answer; "" when they may.
func (p *person) mayNot(ctx context.Context, q store.Q, g store.Gate) (string, error) {
	if p.Kind != api.PersonToken || p.ID == 0 {
		return "only people answer", nil
	}
	if g.Ask.V.NotStarter && g.StartedBy == p.Name {
		return "you have started this run, and its gate wants somebody else's word", nil
	}
	role, known := p.roles[g.Project]
	if !known {
		var err error
		if role, err = ground.RoleIn(ctx, q, p.Who, g.Project); err != nil {
			return "", err
		}
		p.roles[g.Project] = role
	}
	if p.groups == nil {
		now, err := q.PersonByName(ctx, p.Name)
		if err != nil {
			return "", err
		}
		p.groups = ground.NonNil(now.Groups)
	}
	if access.MayAnswer(g.Ask.V.Who, access.Person{Name: p.Name, Role: role, Groups: p.groups}) {
		return "", nil
	}
	return "this is for " + list(g.Ask.V.Who) + " to answer", nil
}

// list is how a person reads who may answer.
func list(who []access.Answerer) string {
	texts := make([]string, len(who))
	for i, a := range who {
		texts[i] = a.String()
	}
	return strings.Join(texts, " or ")
}

// counted are those whose yes counts now.
func counted(ctx context.Context, q ground.Q, g store.Gate) (names []string, err error) {
	said, err := q.Answers(ctx, []record.GateID{g.ID})
	for _, a := range said {
		if !a.Yes {
			continue
		}
		p, err := q.PersonByName(ctx, a.Name)
		if err != nil {
			return nil, err
		}
		w := ground.Who{ID: p.ID, Name: p.Name, Kind: api.PersonToken, Administrator: p.Administrator || p.ByGroup}
		why, err := someone(w).mayNot(ctx, q.Q, g)
		if err != nil {
			return nil, err
		}
		if why == "" && !p.Disabled {
			names = append(names, a.Name)
		}
	}
	return names, err
}
