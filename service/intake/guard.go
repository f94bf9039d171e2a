package intake

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/store"
)

// ofSecrets are the codes of findings about secrets that depend on the run.
var ofSecrets = []string{"secret-not-set", "secret-protected", "secret-expired", "secret-expires"}

// judgeSecrets drops complaints about secrets of steps that this run skips, and refuses those that an untrusted
// proposal asks for: none is ever given to one, whatever it has written into the pipeline file.
//
// It also tells the run's guard: which protected secrets its steps list.
func (pl *planner) judgeSecrets(p *definition.Pipeline, run *store.Run) {
	protected := map[string]access.Scope{}
	run.Findings.V = slices.DeleteFunc(run.Findings.V,
		func(f definition.Finding) bool { return slices.Contains(ofSecrets, f.Code) })
	at := &check.Occasion{Pipeline: run.Pipeline, Branch: run.Branch, Tag: run.Tag}
	for _, name := range p.JobNames() {
		j := p.Job[name]
		for _, s := range j.Askers() {
			wanted := j.SecretsOf(s)
			if len(wanted) == 0 || !plan.MayRun(j, s, run.Facts.V) {
				continue
			}
			if run.Outside {
				run.Findings.V = append(run.Findings.V, check.RefusedSecrets(p, j, s, whyRefused(run)))
				continue
			}
			run.Findings.V = append(run.Findings.V, check.Secrets(p, j, s, pl.known, at)...)
			for _, k := range pl.known.Secrets {
				if slices.Contains(wanted, k.Name) && k.Scope.Protects() {
					protected[k.Name] = k.Scope
				}
			}
		}
	}
	run.Guard = guardOf(protected)
}

// whyRefused tells why a run is given no secret.
func whyRefused(run *store.Run) string {
	if run.Trigger == plan.ByBisection {
		return "a commit that is only tried is given none"
	}
	return check.FromOutside
}

// guardOf names a set of protected secrets. When what one is for changes, so does the name.
func guardOf(protected map[string]access.Scope) string {
	if len(protected) == 0 {
		return ""
	}
	text, _ := json.Marshal(protected) // in the order of its keys; it holds nothing that cannot be written
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12])
}
