package appfile

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/appbundle"
)

// Download is about how many bytes a kind of device loads.
type Download struct {
	// The processor of the device; "" for any.
	Processor string `json:"processor,omitempty"`
	// Dots per inch of its screen; 0 for any.
	Density int   `json:"density,omitempty"`
	Size    int64 `json:"size"`
}

// densities are the screens that resources are made for, by the names of their folders.
var densities = map[string]int{"ldpi": 120, "mdpi": 160, "tvdpi": 213, "hdpi": 240, "xhdpi": 320, "xxhdpi": 480,
	"xxxhdpi": 640}

var densityFolder = regexp.MustCompile(`^res/[a-z]+(?:-[^/]+)?-(l|m|tv|h|xh|xxh|xxxh)dpi(?:-v\d+)?/`)

// densityOf is the screen that a resource is for; 0 for any.
func densityOf(place string) int {
	if m := densityFolder.FindStringSubmatch(place); m != nil {
		return densities[m[1]+"dpi"]
	}
	return 0
}

// downloads estimates what kinds of devices load: of an app bundle each its own libraries and pictures, of what else
// there is all. A store packs things its own way, and splits languages, too.
func (p *Package) downloads() {
	if p.Kind != Bundle {
		p.Downloads = append(p.Downloads, Download{Size: p.Size})
		return
	}
	all, libraries, pictures := p.shares()
	processors := p.Processors
	if len(processors) == 0 {
		processors = []string{""}
	}
	screens := []int{0}
	for d := range pictures {
		screens = append(screens, d)
	}
	slices.Sort(screens)
	if len(screens) > 1 {
		screens = []int{screens[1], screens[len(screens)-1]} // the least and the most
	}
	for _, processor := range processors {
		for _, d := range slices.Compact(screens) {
			p.Downloads = append(p.Downloads, Download{processor, d, all + libraries[processor] + pictures[d]})
		}
	}
}

// shares are the packed bytes of what every device loads, and of what only some do.
func (p *Package) shares() (all int64, libraries map[string]int64, pictures map[int]int64) {
	libraries, pictures = map[string]int64{}, map[int]int64{}
	split := map[string]bool{} // modules that say which libraries are for which processor
	for _, e := range p.Entries() {
		if path.Base(e.Name) == "native.pb" {
			split[path.Dir(e.Name)] = true
		}
	}
	for _, e := range p.Entries() {
		module, place, in := strings.Cut(e.Name, "/")
		if !in || !appbundle.IsModule(module) {
			continue
		}
		parts := strings.Split(place, "/")
		switch d := densityOf(place); {
		case len(parts) > 2 && parts[0] == "lib" && split[module]:
			libraries[parts[1]] += e.Compressed
		case len(parts) > 2 && parts[0] == "lib":
			all += e.Compressed
			if len(p.Processors) > 1 && !slices.Contains(p.Unsplit, module) {
				p.Unsplit = append(p.Unsplit, module)
			}
		case d != 0:
			pictures[d] += e.Compressed
		default:
			all += e.Compressed
		}
	}
	return all, libraries, pictures
}
