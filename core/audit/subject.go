package audit

import "vergekeep/core/selector"

// File is a configuration that is no device's: what is known of it is said by
// whoever brings it.
type File struct {
	Name, Platform string
	Fields         map[string][]string // by key of a selector
}

// Field implements [selector.Subject].
func (f File) Field(key string) []string {
	switch key {
	case "name":
		return []string{f.Name}
	case "platform":
		return []string{f.Platform}
	}
	return f.Fields[key]
}

var picksAll selector.Selector
