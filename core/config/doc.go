// Package config reads configurations into trees without ever losing a byte.
//
// Text is the truth and the tree is a view of it. [Parse] accepts any bytes at
// all: what a reader does not understand becomes a plain line, so that
// [Tree.Print] gives back exactly what was parsed, for every input and every
// reader. Each node knows its lines, the bytes of its own words, and the
// heading above it; a verbatim block (a banner with a delimiter of its own, a
// certificate, a here-document) is one node that is never looked into.
//
// There are five readers, one for each way that configurations are written:
// [Indent], [Brace], [Flat], [XML] and [JSON]. What else differs between
// platforms is a parameter in [Syntax], which a dialect fills in from data.
package config
