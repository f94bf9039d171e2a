package work

import (
	"maps"
	"strconv"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/store"
)

// runEnv is what the service itself tells every step.
func runEnv(r store.Run) map[string]string {
	env := map[string]string{}
	maps.Copy(env, r.Env.V)
	for name, text := range r.Inputs.V {
		env[(&definition.Input{Name: name}).Variable()] = text
	}
	if r.BuildNumber != 0 || env["PISTON_BUILD_NUMBER"] == "" { // a proposal's does not count, and is only in its env
		env["PISTON_BUILD_NUMBER"] = buildText(r.BuildNumber)
	}
	for name, value := range map[string]string{
		"PISTON_PROJECT": r.Project, "PISTON_RUN": strconv.FormatInt(int64(r.Number), 10), "PISTON_PIPELINE": r.Pipeline,
		"PISTON_TRIGGER": string(r.Trigger), "PISTON_BRANCH": r.Branch, "PISTON_TAG": r.Tag, "PISTON_COMMIT": r.Commit,
		"PISTON_TARGET": r.Target, "PISTON_TRUSTED": strconv.FormatBool(!r.Outside),
		"PISTON_VERSION_NAME": r.VersionName,
	} {
		env[name] = value
	}
	return env
}

// buildText is a build number as steps find it; none is empty, until a raise takes one.
func buildText(n version.BuildNumber) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(int64(n), 10)
}
