package work

import (
	"maps"
	"strconv"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/store"
)

// runEnv is what the service itself tells every step.
func runEnv(r store.Run) map[string]string {
	env := map[string]string{}
	maps.Copy(env, r.Env.V)
	for name, text := range r.Inputs.V {
		env[(&definition.Input{Name: name}).Variable()] = text
	}
	for name, value := range map[string]string{
		"PISTON_PROJECT": r.Project, "PISTON_RUN": strconv.FormatInt(int64(r.Number), 10), "PISTON_PIPELINE": r.Pipeline,
		"PISTON_TRIGGER": string(r.Trigger), "PISTON_BRANCH": r.Branch, "PISTON_TAG": r.Tag, "PISTON_COMMIT": r.Commit,
		"PISTON_TARGET": r.Target, "PISTON_TRUSTED": strconv.FormatBool(!r.Outside),
		"PISTON_BUILD_NUMBER": strconv.FormatInt(int64(r.BuildNumber), 10), "PISTON_VERSION_NAME": r.VersionName,
	} {
		env[name] = value
	}
	return env
}
