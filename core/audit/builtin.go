package audit

import (
	"embed"
	"io/fs"
)

//go:embed builtin/*.yaml
var builtin embed.FS

// Builtin is the folder of the policies that ship with the product.
func Builtin() fs.FS {
	sub, err := fs.Sub(builtin, "builtin")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return sub
}
