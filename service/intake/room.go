// Package intake takes in what may start runs, and plans them: pushes and proposals,
// schedules, starts by hand. An event is recorded before anything is done about it, and planned once.
package intake

import (
	"time"

	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/secrets"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/service/work"
)

// Intake is the room of what comes in.
type Intake struct {
	*ground.Ground
	vault   *vault.Vault
	secrets *secrets.Secrets
	work    *work.Work
	public  string
	clean   clean
	lanes   *lanes
}

// New makes it. public is the address by which people reach the console; "" when that is not known.
func New(g *ground.Ground, v *vault.Vault, s *secrets.Secrets, w *work.Work, public string) *Intake {
	return &Intake{Ground: g, vault: v, secrets: s, work: w, public: public, lanes: newLanes()}
}

// Background starts its loops.
func (s *Intake) Background() {
	s.Loop(ground.Upkeep{What: "planning pushes left behind", Every: 2 * time.Second, Poked: s.Ends(),
		Rest: 100 * time.Millisecond,
		Do:   s.planLeftBehind})
	s.Loop(ground.Upkeep{What: "starting what is due", Every: time.Second,
		Do: s.StartDue})
	s.Loop(ground.Upkeep{What: "collecting pushes that were missed", Every: 2 * time.Second,
		Do: s.collectMissed})
}
