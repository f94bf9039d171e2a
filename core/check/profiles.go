package check

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/versionfile"
)

// profiles finds profiles in the repository that are for another app, or have expired. It is the same for all
// pipelines, and found once.
func (t *Tree) profiles() []definition.Finding {
	if t.inProfiles != nil {
		return *t.inProfiles
	}
	found, ids := []definition.Finding{}, t.apps().iosIDs()
	for _, e := range t.Entries {
		if len(found) > definition.MaxFindings {
			break
		}
		if ext := path.Ext(e.Path); e.Link || ext != ".mobileprovision" && ext != ".provisionprofile" {
			continue
		}
		p, ok := profile.Read([]byte(t.text(e.Path)))
		if !ok {
			continue
		}
		for _, wrong := range wrongProfile(p, ids, t.Now) {
			found = append(found, whole("wrong-profile", e.Path, "the profile "+wrong,
				"Make one for the app, and put it in the place of this one."))
		}
	}
	t.inProfiles = &found
	return found
}

// secretProfiles finds the same of profiles in secrets, by what the service has read of them when they were set.
func (c appChecker) secretProfiles() {
	if c.service == nil {
		return
	}
	ids := c.tree.apps().iosIDs()
	for _, name := range c.p.JobNames() {
		j := c.p.Job[name]
		for _, s := range j.Step {
			for _, asked := range j.SecretsOf(s) {
				i := slices.IndexFunc(c.service.Secrets, func(v Secret) bool { return v.Name == asked })
				if i < 0 || c.service.Secrets[i].Profile.App == "" {
					continue
				}
				for _, wrong := range wrongProfile(c.service.Secrets[i].Profile, ids, c.tree.Now) {
					c.add("wrong-profile", fmt.Sprintf("the profile in the secret %s %s", asked, wrong),
						fmt.Sprintf("Make one for the app: piston secret set %s %s --file …", c.service.Project, asked),
						secretPlace(j, s, asked))
				}
			}
		}
	}
}

// wrongProfile tells what is wrong with one, for apps of some ids.
func wrongProfile(p profile.Profile, ids []string, now time.Time) (wrong []string) {
	if !now.IsZero() && !p.Ends.IsZero() && p.Ends.Before(now) {
		wrong = append(wrong, "has expired on "+p.Ends.UTC().Format("2 January 2006"))
	} else if !now.IsZero() && !p.Ends.IsZero() && p.Ends.Before(now.Add(expiresSoon)) {
		wrong = append(wrong, fmt.Sprintf("expires on %s, in %d days", p.Ends.UTC().Format("2 January 2006"),
			int(p.Ends.Sub(now)/(24*time.Hour))))
	}
	fits := func(id string) bool {
		return p.For(id) || strings.HasPrefix(p.App, id+".") // that of a part of the app, such as a widget
	}
	if len(ids) > 0 && !slices.ContainsFunc(ids, fits) {
		how := "is for"
		if slices.ContainsFunc(ids, func(id string) bool { return strings.EqualFold(id, p.App) }) {
			how = "differs in letter case only: it is for"
		}
		wrong = append(wrong, fmt.Sprintf("%s %s, and the app is %s", how, p.App, strings.Join(ids, ", ")))
	}
	return wrong
}

// iosIDs are the ids of a repository's apps on iOS, as app.toml and their files say.
func (d *described) iosIDs() (ids []string) {
	for _, a := range d.places {
		if a.app.IOS != "" {
			ids = append(ids, a.app.IOS)
			continue
		}
		for _, p := range a.found.Places {
			if p.Kind == versionfile.ID && p.Platform == versionfile.IOS && p.Literal() {
				ids = append(ids, p.Value)
			}
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}
