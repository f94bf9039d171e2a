package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/appbundle"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/packaging"
)

func packageCommand() *cli.Command {
	return &cli.Command{
		Name:      "package",
		Usage:     "make an app bundle of modules, or an APK of an app bundle",
		ArgsUsage: "FILE...",
		Description: "Of modules, as aapt2 link --proto-format makes them, with code, libraries and assets added: an app " +
			"bundle, with what\na store needs to give each device its own. Of an app bundle: one APK for testers, with " +
			"all that is in the bundle,\nor with what one kind of device needs. What is made is not signed: piston sign " +
			"does that. A file that is there is not\nwritten over.\n\n" +
			terminal.Example("piston package --into out/tidewick.aab out/base.zip out/charts.zip",
				"piston package --into out/universal.apk out/tidewick.aab",
				"piston package --into out/phone.apk --processor arm64-v8a --density 420 --language de out/tidewick.aab"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "into", Required: true,
				Usage: "the file that is made: NAME.aab of modules, NAME.apk of a bundle"},
			&cli.StringFlag{Name: "mapping", Usage: "of a bundle: the names a shrinker took away, to read crashes by"},
			&cli.StringFlag{Name: "processor", Usage: "of a device: " + strings.Join(action.DeviceProcessors, ", ")},
			&cli.IntFlag{Name: "density", Usage: "of a device: dots per inch of its screen"},
			&cli.StringSliceFlag{Name: "language", Usage: "of a device's people, such as de"},
			&cli.IntFlag{Name: "level", Usage: "of a device: the level of its Android; refused when the app is for later ones"},
			terminal.JSONFlag,
		},
		Action: packageFiles,
	}
}

func packageFiles(ctx context.Context, c *cli.Command) error {
	p := packaging.Pack{Into: c.String("into"), Mapping: c.String("mapping")}
	d := appbundle.Device{Processor: c.String("processor"), Density: int(c.Int("density")),
		Languages: c.StringSlice("language"), Level: int(c.Int("level"))}
	files := c.Args().Slice()
	switch into := strings.ToLower(p.Into); {
	case len(files) == 0:
		return terminal.Usage("say of what: piston package --into FILE.aab MODULE..., or --into FILE.apk BUNDLE")
	case strings.HasSuffix(into, ".aab"):
		p.Modules = files
	case strings.HasSuffix(into, ".apk") && len(files) == 1:
		p.Bundle, p.Device = files[0], &d
	case strings.HasSuffix(into, ".apk"):
		return terminal.Usage("an APK is made of one app bundle")
	default:
		return terminal.Usage("--into names the file that is made: NAME.aab of modules, NAME.apk of a bundle")
	}
	if len(p.Modules) > 0 && slices.ContainsFunc([]string{"processor", "density", "language", "level"}, c.IsSet) {
		return terminal.Usage("an app bundle is for all devices; make an APK of it for one")
	}
	made, err := p.Make(ctx)
	if err != nil {
		return terminal.Ending(terminal.ExitFailed, err)
	}
	if c.Bool("json") {
		return terminal.PrintJSON(terminal.Out(c), made)
	}
	s := terminal.NewScreen(terminal.Out(c))
	s.Line("%s  %s %s (%s), %s", s.In(terminal.Strong, made.File), made.ID, made.Version, made.Build,
		quantity.Bytes(made.Size))
	about := "modules: " + strings.Join(made.Modules, ", ")
	if len(made.Processors) > 0 {
		about += "; processors: " + strings.Join(made.Processors, ", ")
	}
	s.Line("  %s", s.In(terminal.Faint, about+"; not signed"))
	if len(made.Left) > 0 {
		s.Line("  %s", fmt.Sprintf("left out, as their manifests say: %s", strings.Join(made.Left, ", ")))
	}
	return nil
}
