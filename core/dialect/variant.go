package dialect

import (
	"regexp"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/form"
)

// Variant is how some models or versions of a platform are talked to otherwise.
// How their text is read is the same for all: one archive, one reader.
type Variant struct {
	Name    string
	Model   *regexp.Regexp // of the nameplate; nil for any
	Version *regexp.Regexp
	Dialect *Dialect // whole, with the changes in it, and without variants
}

// For is the dialect for a device of which the nameplate is known: that of the
// first variant that fits it, or else the dialect itself.
func (d *Dialect) For(p Nameplate) *Dialect {
	for _, v := range d.Variants {
		if (v.Model == nil || p.Model != "" && v.Model.MatchString(p.Model)) && (v.Version == nil || p.Version != "" && v.Version.MatchString(p.Version)) {
			return v.Dialect
		}
	}
	return d
}

// variants builds the variants of d: each is the file with its changes laid over
// it, checked as a whole file is.
func (c *checker) variants(d *Dialect, text string) error {
	var f file
	if err := c.Decode(&f); err != nil {
		return err
	}
	for i, v := range f.Variants {
		at := []string{"variants", strconv.Itoa(i)}
		out := Variant{Name: v.Name, Model: c.Regexp(v.Model, append(at, "model")...), Version: c.Regexp(v.Version, append(at, "version")...)}
		if slices.ContainsFunc(d.Variants, func(other Variant) bool { return other.Name == v.Name }) {
			c.Complain(append(at, "name"), "there are two variants %q", v.Name)
		}
		if v.Model == "" && v.Version == "" {
			c.Complain(at, "it needs a model or a version, or it would fit every device")
		}
		if err := c.Err(); err != nil {
			return err
		}
		whole := &checker{&form.Document{File: c.File, Root: overlay(without(c.Root, "variants"), &v.Change)}}
		var err error
		if out.Dialect, err = whole.read(text); err != nil {
			return err
		}
		out.Dialect.Variant = v.Name
		d.Variants = append(d.Variants, out)
	}
	return nil
}

// overlay is a mapping with another laid over it: mappings are merged, anything
// else is replaced. Neither of the two is changed.
func overlay(under, over *yaml.Node) *yaml.Node {
	if under.Kind != yaml.MappingNode || over.Kind != yaml.MappingNode {
		return over
	}
	merged := *under
	merged.Content = slices.Clone(under.Content)
	for i := 0; i+1 < len(over.Content); i += 2 {
		key, value := over.Content[i], over.Content[i+1]
		at := slices.IndexFunc(evens(merged.Content), func(k *yaml.Node) bool { return k.Value == key.Value })
		if at < 0 {
			merged.Content = append(merged.Content, key, value)
			continue
		}
		merged.Content[2*at] = key // its line is where a complaint belongs
		merged.Content[2*at+1] = overlay(merged.Content[2*at+1], value)
	}
	return &merged
}

func evens(list []*yaml.Node) []*yaml.Node {
	var keys []*yaml.Node
	for i := 0; i+1 < len(list); i += 2 {
		keys = append(keys, list[i])
	}
	return keys
}

func without(n *yaml.Node, key string) *yaml.Node {
	less := *n
	less.Content = nil
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value != key {
			less.Content = append(less.Content, n.Content[i], n.Content[i+1])
		}
	}
	return &less
}
