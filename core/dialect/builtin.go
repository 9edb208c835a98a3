package dialect

import (
	"embed"
	"io/fs"
)

//go:embed builtin/*.yaml
var builtin embed.FS

// Builtin is the folder of the dialects that come with Verge Keep.
func Builtin() fs.FS {
	sub, err := fs.Sub(builtin, "builtin")
	if err != nil {
		panic(err) // the folder is part of the binary
	}
	return sub
}
