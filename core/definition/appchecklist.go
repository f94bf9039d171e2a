package definition

import (
	"fmt"
	"path"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/quantity"
)

// AppChecklist is what the packages of an app must meet, besides what every package must.
type AppChecklist struct {
	// The lowest level of Android that a package may be made for (targetSdkVersion).
	//
	//	target = 34
	Target int `toml:"target"`
	// What packages may do: permissions of Android, keys of purposes on iOS. Default: what the last one could.
	//
	//	permissions = ["android.permission.INTERNET"]
	Permissions []string `toml:"permissions"`
	// The processors that packages have code for. Default: those of the last one.
	//
	//	processors = ["arm64-v8a", "armeabi-v7a", "arm64"]
	Processors []string `toml:"processors"`
	// Hosts that may be inside although only some reach them, such as a device in a house; * stands for any part.
	//
	//	hosts = ["*.local"]
	Hosts []string `toml:"hosts"`
	// Files in packages that may hold what looks like a secret: everybody who has the app can read it.
	//
	//	may_hold = ["**/services.json"]
	MayHold []string `toml:"may_hold"`
	// The most bytes of a package.
	//
	//	size = "30 MB"
	Size string `toml:"size"`
	// By how many per cent a package may be larger than the last that was kept. Default: 20.
	//
	//	growth = 10
	Growth *int `toml:"growth"`
	// Whether packages may speak unencrypted.
	Cleartext bool `toml:"cleartext"`
	// Rules of one's own.
	Rule []OwnRule `toml:"rule"`
	// What is accepted for a time although it is against a rule.
	Accept []Acceptance `toml:"accept"`
	// Findings that are people's to judge: they fail no step, and the job waits for an answer once it has passed.
	Ask *RuleAsk `toml:"ask"`
}

// RuleAsk says which findings people are asked about, and whom. It is answered as a gate is.
type RuleAsk struct {
	// The rules, such as grown.
	//
	//	ask = { rules = ["grown"], who = ["keeper"] }
	Rules []string `toml:"rules" json:"rules"`
	// Who may answer: as of a gate.
	Who []access.Answerer `toml:"who" json:"who"`
	// How many have to say yes. Default 1.
	Count int `toml:"count" json:"count,omitempty"`
	// How long there is to answer. Default 7 days; nobody's answer fails the job.
	Within Duration `toml:"within" json:"within,omitempty"`
}

// OwnRule is one that an app's packages must meet, besides those that are there.
type OwnRule struct {
	// What it is called.
	//
	//	[[app.almanac.checklist.rule]]
	//	name = "no-maps"
	//	holds = '!files.within("**/*.map")'
	//	says = "source maps are inside"
	//	fix = "Build with sourceMap = false."
	Name string `toml:"name"`
	// A condition (CEL) over what was found in a package: kind, platform, id, label, version, build, lowest, target,
	// debuggable, cleartext, permissions, processors, languages, schemes, domains, inside, methods, download, files, size,
	// last_size, entitlements.
	Holds string `toml:"holds"`
	// What is wrong when it does not hold.
	Says string `toml:"says"`
	// How to mend it.
	Fix string `toml:"fix"`
}

// maxRules bounds an app's own rules.
const maxRules = 50

// Acceptance lets something pass that is against a rule, until a day.
type Acceptance struct {
	// The rule, such as grown.
	//
	//	accept = [{ rule = "grown", reason = "the charts of the north coast", until = "2027-01-31" }]
	Rule string `toml:"rule"`
	// Why.
	Reason string `toml:"reason"`
	// The last day on which it holds.
	Until string `toml:"until"`
}

// DefaultGrowth is by how many per cent a package may grow unasked.
const DefaultGrowth = 20

// checklist checks what is said of an app's checklist.
func (v *validator) checklist(app string, c *AppChecklist) {
	if c == nil {
		return
	}
	at := func(path ...string) []string { return append([]string{"app", app, "checklist"}, path...) }
	if c.Size != "" {
		if _, err := quantity.ParseBytes(c.Size); err != nil {
			v.add("bad-value", err.Error(), `Write "30 MB", for example.`, at("size")...)
		}
	}
	if c.Growth != nil && (*c.Growth < 0 || *c.Growth > 1000) {
		v.add("bad-value", fmt.Sprintf("growth is %d per cent", *c.Growth), "Write a number from 0 to 1000.", at("growth")...)
	}
	if c.Target < 0 {
		v.add("bad-value", fmt.Sprintf("target is %d", c.Target), "Write a level of Android, such as 34.", at("target")...)
	}
	for _, host := range c.Hosts {
		if _, err := path.Match(host, ""); err != nil {
			v.add("bad-value", fmt.Sprintf("%.60q is no host", host), `Write hosts = ["*.local"], for example.`, at("hosts")...)
		}
	}
	for _, glob := range c.MayHold {
		if !doublestar.ValidatePattern(glob) {
			v.add("bad-value", fmt.Sprintf("%.60q is no glob", glob), `Write may_hold = ["**/services.json"], for example.`,
				at("may_hold")...)
		}
	}
	own := ownRules(v, c.Rule, at)
	if a := c.Ask; a != nil {
		ruleAsk(v, a, own, func(path ...string) []string { return at(append([]string{"ask"}, path...)...) })
	}
	for i, a := range c.Accept {
		where := at("accept", fmt.Sprint(i))
		if _, known := FindListRule(a.Rule); !known && !own[a.Rule] {
			v.add("bad-value", fmt.Sprintf("there is no rule %.40q", a.Rule), "docs/reference/findings.md lists them.", where...)
		}
		if a.Reason == "" {
			v.add("bad-value", "it does not say why it is accepted", "Add reason = \"…\".", where...)
		}
		if _, err := time.Parse(time.DateOnly, a.Until); err != nil {
			v.add("bad-value", fmt.Sprintf("until %.40q is no day", a.Until), `Write until = "2027-01-31", for example.`,
				where...)
		}
	}
}

// ruleAsk checks what people are asked about.
func ruleAsk(v *validator, a *RuleAsk, own map[string]bool, at func(...string) []string) {
	if len(a.Rules) == 0 || len(a.Who) == 0 {
		v.add("missing-key", "ask needs both rules and who", `Write ask = { rules = ["grown"], who = ["keeper"] }.`, at()...)
	}
	for i, rule := range a.Rules {
		if _, known := FindListRule(rule); !known && !own[rule] {
			v.add("bad-value", fmt.Sprintf("there is no rule %.40q", rule), "docs/reference/findings.md lists them.",
				at("rules", fmt.Sprint(i))...)
		}
	}
	answerers(v, a.Who, a.Count, a.Within, at)
}

// ownRules checks an app's own rules, and gives their names.
func ownRules(v *validator, rules []OwnRule, at func(...string) []string) map[string]bool {
	own := map[string]bool{}
	if len(rules) > maxRules {
		v.add("too-many", fmt.Sprintf("%d rules; an app may have %d", len(rules), maxRules), "Name fewer.", at("rule")...)
		return own
	}
	for i, r := range rules {
		where := func(key string) []string { return at("rule", fmt.Sprint(i), key) }
		v.name(r.Name, "rule", where("name")...)
		if _, known := FindListRule(r.Name); known || own[r.Name] {
			v.add("bad-value", fmt.Sprintf("there is a rule %s already", r.Name), "Give it another name.", where("name")...)
		}
		own[r.Name] = true
		if _, err := condition.CompileRule(r.Holds); err != nil {
			v.add("bad-condition", err.Error(), `Write holds = 'size < 30000000', for example.`, where("holds")...)
		}
		if r.Says == "" {
			v.add("bad-value", "it does not say what is wrong when it does not hold", "Add says = \"…\".", at("rule",
				fmt.Sprint(i))...)
		}
	}
	return own
}
