package packaging

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"gentlepiston.example/piston/core/archive"
)

// maxUnpacked bounds the bytes of an app that is unpacked.
const maxUnpacked = 16 << 30

// unpack puts the app of an IPA into a folder, and gives its name.
func unpack(ctx context.Context, from, into string) (name string, err error) {
	in, err := os.Open(from)
	if err != nil {
		return "", err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return "", err
	}
	a, err := archive.Open(in, info.Size())
	if err != nil {
		return "", err
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return "", err
	}
	defer root.Close()
	left := int64(maxUnpacked)
	for _, e := range a.Entries() {
		at, is := strings.CutPrefix(e.Name, "Payload/")
		if !is || e.Folder() {
			continue
		}
		app, _, _ := strings.Cut(at, "/")
		switch left -= e.Size; {
		case ctx.Err() != nil:
			return "", context.Cause(ctx)
		case name != "" && app != name:
			return "", &archive.Error{Entry: e.Name, What: "there is a second app beside " + name}
		case e.Link:
			return "", &archive.Error{Entry: e.Name, What: "it is a link; an app of iOS holds files and folders only"}
		case left < 0:
			return "", &archive.Error{What: fmt.Sprintf("it unpacks to more than %d bytes", int64(maxUnpacked))}
		}
		name = app
		if err := write(root, a, e, at); err != nil {
			return "", err
		}
	}
	return name, nil
}

func write(root *os.Root, a *archive.Archive, e *archive.Entry, at string) error {
	if err := root.MkdirAll(path.Dir(at), 0o755); err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if e.Executable() {
		mode = 0o755
	}
	out, err := root.OpenFile(at, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	content := a.Content(e)
	_, err = io.Copy(out, content)
	content.Close()
	if closed := out.Close(); err == nil {
		err = closed
	}
	return err
}
