// Package console holds the built files of the web console.
package console

import "embed"

// Files is the folder dist as the console's build leaves it: every text file also as .br and .gz.
//
//go:embed all:dist
var Files embed.FS
