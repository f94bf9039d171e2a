package terminal

import (
	"context"
	"errors"
	"net/http"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/source"
)

// projectName is how commands call the argument that may be left out in a work tree.
const projectName = "PROJECT"

// withProject puts the project of the work tree this is called in before the arguments, where a command wants one and
// they do not begin with one.
func withProject(ctx context.Context, cl *client.Client, given, names []string) []string {
	if len(names) == 0 || names[0] != projectName || len(given) >= len(names) {
		return given
	}
	tree, err := source.OpenWorkTree(ctx, ".")
	if err != nil {
		return given
	}
	if len(given) > 0 {
		_, err := cl.Project(ctx, given[0])
		if problem := (*client.Problem)(nil); !errors.As(err, &problem) || problem.Status != http.StatusNotFound {
			return given // it is one, or nobody can tell
		}
	}
	project, err := ProjectOf(ctx, cl, tree)
	if err != nil {
		return given // what is said of the arguments as they are tells more
	}
	return append([]string{project}, given...)
}

// ProjectOf finds the project whose repository a work tree is pushed to.
func ProjectOf(ctx context.Context, cl *client.Client, w *source.WorkTree) (string, error) {
	is, err := IsOf(ctx, w)
	if err != nil {
		return "", err
	}
	for after := ""; ; {
		list, err := cl.Projects(ctx, api.Page{After: after, Limit: 200})
		if err != nil {
			return "", err
		}
		if len(list) == 0 {
			return "", ErrNoProject
		}
		for _, p := range list {
			if is(p.Remote) {
				return p.Name, nil
			}
		}
		after = list[len(list)-1].Name
	}
}
