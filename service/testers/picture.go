package testers

import (
	"bytes"
	"context"
	"image"
	"image/jpeg"
	_ "image/png" // pictures of screens

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp" // and what phones make of them
	"golang.org/x/sync/semaphore"

	"gentlepiston.example/piston/service/ground"
)

// The bounds of a picture. It is drawn anew, and within maxEdge: what a camera wrote into it beside what is seen, such
// as where that was, goes no further.
const (
	MaxPicture = 10 << 20 // bytes
	maxPixels  = 24_000_000
	maxEdge    = 1600
	quality    = 80
)

// drawing bounds how many are drawn at once: each takes a hundred megabytes of memory at most.
var drawing = semaphore.NewWeighted(2)

// redraw makes a JPEG of a picture.
func redraw(ctx context.Context, picture []byte) ([]byte, error) {
	no := ground.Saying(ground.ErrInvalid, "That is no picture that is understood here: send a PNG, JPEG or WebP of up "+
		"to 10 MB.")
	if len(picture) > MaxPicture {
		return nil, no
	}
	about, _, err := image.DecodeConfig(bytes.NewReader(picture))
	if err != nil || about.Width < 1 || about.Height < 1 || about.Width > maxPixels/about.Height {
		return nil, no
	}
	if err := drawing.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	defer drawing.Release(1)
	from, _, err := image.Decode(bytes.NewReader(picture))
	if err != nil {
		return nil, no
	}
	size := from.Bounds().Size()
	if longest := max(size.X, size.Y); longest > maxEdge {
		size.X, size.Y = max(1, size.X*maxEdge/longest), max(1, size.Y*maxEdge/longest)
	}
	to := image.NewRGBA(image.Rectangle{Max: size})
	draw.Draw(to, to.Bounds(), image.White, image.Point{}, draw.Src)
	draw.ApproxBiLinear.Scale(to, to.Bounds(), from, from.Bounds(), draw.Over, nil)
	var out bytes.Buffer
	if err := jpeg.Encode(&out, to, &jpeg.Options{Quality: quality}); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
