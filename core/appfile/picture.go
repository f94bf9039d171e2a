package appfile

import (
	"bytes"
	"image"
	"image/png"
	"slices"

	"golang.org/x/image/draw"
)

// The picture of an icon, as it is told: drawn anew, so that it is a plain picture whatever was in the file.
const (
	pictureSize = 96   // pixels
	maxPicture  = 2048 // pixels of what it is made of
	maxTried    = 5    // icons, of which the first that can be read is drawn
)

// picture draws the largest icon that is a picture of pixels; none when there is no such.
func (p *Package) picture() {
	icons := slices.Clone(p.Icons)
	slices.SortStableFunc(icons, func(a, b Icon) int { return b.Width - a.Width })
	for _, icon := range icons[:min(len(icons), maxTried)] {
		if icon.Width <= 0 || icon.Height <= 0 || icon.Width > maxPicture || icon.Height > maxPicture {
			continue
		}
		b, err := p.beginning(p.Find(icon.Path), maxIcon)
		if err != nil {
			continue
		}
		in, _, err := image.Decode(bytes.NewReader(b))
		if err != nil {
			continue
		}
		out := image.NewNRGBA(image.Rect(0, 0, pictureSize, pictureSize))
		draw.CatmullRom.Scale(out, out.Bounds(), in, in.Bounds(), draw.Src, nil)
		var text bytes.Buffer
		if png.Encode(&text, out) == nil {
			p.Picture = text.Bytes()
		}
		return
	}
}
