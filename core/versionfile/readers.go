package versionfile

import (
	"path"
	"regexp"
	"strings"
)

type reader func(f *finder, t *text)

// readers are what reads which files, by their names.
var readers = []struct {
	form *regexp.Regexp // of the base name
	read reader
}{
	{regexp.MustCompile(`\.gradle(\.kts)?$`), gradle},
	{regexp.MustCompile(`^AndroidManifest\.xml$`), manifest},
	{regexp.MustCompile(`(^|[-_.])Info\.plist(\.in)?$|^Info-.*\.plist$`), infoPlist},
	{regexp.MustCompile(`^project\.pbxproj$`), xcodeProject},
	{regexp.MustCompile(`\.xcconfig$`), xcconfig},
	{regexp.MustCompile(`\.properties$`), properties},
	{regexp.MustCompile(`\.versions\.toml$`), catalog},
	{regexp.MustCompile(`^pubspec\.ya?ml$`), pubspec},
	{regexp.MustCompile(`^app\.json$`), appJSON},
	{regexp.MustCompile(`^(package|package-lock|npm-shrinkwrap)\.json$`), packageJSON},
	{regexp.MustCompile(`^config\.xml$`), widget},
	{regexp.MustCompile(`\.csproj$|^Directory\.Build\.props$`), project},
	{regexp.MustCompile(`-app\.xml$|^application\.xml$`), descriptor},
	{regexp.MustCompile(`^(VERSION|version)(\.txt)?$`), topOnly(plain)},
}

var libraryForm = regexp.MustCompile(`com\.android\.library|com\.android\.test|android\.library\b|dynamic-feature`)

// topOnly reads a file only at the top of a repository, or beside an app's platforms: everything has a VERSION.
func topOnly(r reader) reader {
	return func(f *finder, t *text) {
		if path.Dir(t.file) == "." || f.isApp(path.Dir(t.file)) {
			r(f, t)
		}
	}
}

func readerOf(name string) reader {
	base := path.Base(name)
	for _, r := range readers {
		if r.form.MatchString(base) {
			if strings.HasSuffix(base, ".plist") && isTest(name) {
				return nil
			}
			return r.read
		}
	}
	return nil
}
