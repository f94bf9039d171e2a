package outlet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// upload brings a package where it is to be sent, from where the outlet has it (tus 1.0.0, core protocol). It goes on
// by itself as long as some of it arrives.
func (d *door) upload(ctx context.Context, at string, p Package, sent func(int64)) error {
	u, err := d.base.Parse(at)
	if err != nil || u.Scheme != d.base.Scheme || u.Host != d.base.Host {
		return &Away{Why: fmt.Errorf("it wants %s to be sent elsewhere, to %.200q", p.File, at)}
	}
	for before := int64(-1); ; {
		offset, err := d.offset(ctx, u, p)
		if err != nil {
			return err
		}
		sent(offset)
		if offset == p.Size {
			return nil
		}
		if offset <= before {
			return &Away{Why: fmt.Errorf("nothing of %s arrives after byte %d", p.File, offset)}
		}
		before = offset
		err = d.patch(ctx, u, p, offset, sent)
		if away := (*Away)(nil); err != nil && (!errors.As(err, &away) || away.After > 0 || ctx.Err() != nil) {
			return err
		}
	}
}

// offset asks how much of a package has arrived.
func (d *door) offset(ctx context.Context, u *url.URL, p Package) (int64, error) {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, u.String(), nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Tus-Resumable", "1.0.0")
	res, err := d.do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	offset, err := strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || offset < 0 || offset > p.Size {
		return 0, &Away{Why: fmt.Errorf("it says that %.40q of the %d bytes of %s have arrived",
			res.Header.Get("Upload-Offset"), p.Size, p.File)}
	}
	return offset, nil
}

// patch brings the rest of a package from a byte on.
func (d *door) patch(ctx context.Context, u *url.URL, p Package, from int64, sent func(int64)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stalls := time.AfterFunc(callLimit, cancel) // when nothing is taken for so long
	defer stalls.Stop()
	in, err := p.Open(ctx, from)
	if err != nil {
		return &Away{Why: err}
	}
	defer in.Close()
	counted := io.TeeReader(in, &counter{n: from, tell: func(n int64) {
		stalls.Reset(callLimit)
		sent(n)
	}})
	req, err := http.NewRequestWithContext(ctx, http.MethodPatch, u.String(), counted)
	if err != nil {
		return err
	}
	req.ContentLength = p.Size - from
	req.Header.Set("Tus-Resumable", "1.0.0")
	req.Header.Set("Upload-Offset", strconv.FormatInt(from, 10))
	req.Header.Set("Content-Type", "application/offset+octet-stream")
	res, err := d.do(req)
	if err != nil {
		return err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, maxAnswer))
	return res.Body.Close()
}
