package host

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentlepiston.example/piston/store"
)

// homeFile holds by which the records know a data folder.
const homeFile = "home.id"

// ErrOtherHome says that the records speak of blobs and logs in another data folder.
var ErrOtherHome = errors.New("the records belong to another data folder")

// claimHome refuses to serve records whose blobs and live logs are in another folder: half of what they speak of would
// not be there. take says that the other is gone and this one is to be theirs.
func claimHome(ctx context.Context, st *store.Store, home string, take bool) error {
	id, err := homeID(home)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	place := host + ":" + home
	own, err := st.ClaimHome(ctx, id, place)
	if err != nil || own.ID == id {
		return err
	}
	if take {
		return st.MoveHome(ctx, id, place)
	}
	return fmt.Errorf("%w, %s, since %s, where their artifacts and logs are: serve with that one. A second server "+
		"cannot share them yet. "+
		"If that folder is gone for good, start once with --take-records", ErrOtherHome, own.Place,
		own.Since.Format("2 January 2006"))
}

func homeID(home string) (string, error) {
	file := filepath.Join(home, homeFile)
	text, err := os.ReadFile(file)
	if err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	id := rand.Text()
	return id, os.WriteFile(file, []byte(id+"\n"), 0o600)
}
