package form

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/nearest"
)

// schemaRule is the part of JSON Schema (draft 2020-12) that the published schemas
// use. A library for all of it takes longer to start than a whole client
// command may; tests hold the two against each other.
type schemaRule struct {
	Ref              string                 `json:"$ref"`
	Defs             map[string]*schemaRule `json:"$defs"`
	Type             string                 `json:"type"`
	Const            any                    `json:"const"`
	Enum             []string               `json:"enum"`
	Pattern          string                 `json:"pattern"`
	MinLength        int                    `json:"minLength"`
	MaxLength        *int                   `json:"maxLength"`
	Minimum          *int                   `json:"minimum"`
	Maximum          *int                   `json:"maximum"`
	Items            *schemaRule            `json:"items"`
	MinItems         int                    `json:"minItems"`
	MaxItems         *int                   `json:"maxItems"`
	Properties       map[string]*schemaRule `json:"properties"`
	Required         []string               `json:"required"`
	AdditionalRaw    json.RawMessage        `json:"additionalProperties"`
	PropertyNames    *schemaRule            `json:"propertyNames"`
	MinProperties    int                    `json:"minProperties"`
	MaxProperties    *int                   `json:"maxProperties"`
	AllOf            []*schemaRule          `json:"allOf"`
	AnyOf            []*schemaRule          `json:"anyOf"`
	OneOf            []*schemaRule          `json:"oneOf"`
	additional       *schemaRule
	additionalDenied bool
}

// Schema is what a file of one kind may hold. It is read when it is first needed.
type Schema struct {
	text string
	root func() (*schemaRule, error)
}

// NewSchema makes a schema of its text, JSON Schema.
func NewSchema(text string) *Schema {
	return &Schema{text, sync.OnceValues(func() (*schemaRule, error) {
		var root schemaRule
		if err := json.Unmarshal([]byte(text), &root); err != nil {
			return nil, err
		}
		return &root, root.prepare()
	})}
}

// Text is the schema as it is published.
func (s *Schema) Text() string { return s.text }

func (r *schemaRule) prepare() error {
	if raw := strings.TrimSpace(string(r.AdditionalRaw)); raw == "false" {
		r.additionalDenied = true
	} else if raw != "" {
		r.additional = &schemaRule{}
		if err := json.Unmarshal(r.AdditionalRaw, r.additional); err != nil {
			return err
		}
	}
	for _, group := range []map[string]*schemaRule{r.Properties, r.Defs} {
		for _, sub := range group {
			if err := sub.prepare(); err != nil {
				return err
			}
		}
	}
	if r.Items != nil {
		return r.Items.prepare()
	}
	return nil
}

// Check holds the document against a schema, and reports whether nothing is wrong
// with it so far.
func (d *Document) Check(s *Schema) bool {
	root, err := s.root()
	if err != nil {
		d.Fail(1, "the schema is broken: %v", err)
		return false
	}
	d.against(root, root, d.Root, nil)
	return len(d.complaints) == 0
}

// kindOf is what JSON Schema calls the kind of a node.
func kindOf(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "object"
	case yaml.SequenceNode:
		return "array"
	}
	switch n.Tag {
	case "!!int":
		return "integer"
	case "!!bool":
		return "boolean"
	case "!!null":
		return "null"
	case "!!float":
		return "number"
	}
	return "string"
}

func (d *Document) against(root, r *schemaRule, n *yaml.Node, path []string) {
	if name, ok := strings.CutPrefix(r.Ref, "#/$defs/"); ok {
		d.against(root, root.Defs[name], n, path)
	}
	where := path
	if len(where) == 0 {
		where = []string{"file"}
	}
	bad := func(format string, args ...any) {
		d.failAt(n, "%s: %s", strings.Join(where, "."), fmt.Sprintf(format, args...))
	}
	kind := kindOf(n)
	if r.Type != "" && r.Type != kind && (r.Type != "number" || kind != "integer") {
		bad("it must be %s, not %s", article(r.Type), article(kind))
		return
	}
	if r.Const != nil && fmt.Sprint(r.Const) != n.Value {
		bad("it must be %v", r.Const)
	}
	if len(r.Enum) > 0 && !slices.Contains(r.Enum, n.Value) {
		bad("it must be one of %s, not %q.%s", strings.Join(r.Enum, ", "), n.Value, nearest.Hint(n.Value, r.Enum))
	}
	switch kind {
	case "string":
		length := len([]rune(n.Value))
		if length < r.MinLength {
			bad("it must not be empty")
		}
		if r.MaxLength != nil && length > *r.MaxLength {
			bad("it is longer than %d characters", *r.MaxLength)
		}
		if r.Pattern != "" && !regexp.MustCompile(r.Pattern).MatchString(n.Value) {
			bad("%q does not match %s", n.Value, r.Pattern)
		}
	case "integer":
		v, err := strconv.Atoi(strings.ReplaceAll(n.Value, "_", ""))
		if err != nil || r.Minimum != nil && v < *r.Minimum || r.Maximum != nil && v > *r.Maximum {
			bad("%s is out of range", n.Value)
		}
	case "array":
		if len(n.Content) < r.MinItems {
			bad("it needs at least %d", r.MinItems)
		}
		if r.MaxItems != nil && len(n.Content) > *r.MaxItems {
			bad("it has more than %d", *r.MaxItems)
		}
		for i, item := range n.Content {
			if r.Items != nil {
				d.against(root, r.Items, item, append(path[:len(path):len(path)], strconv.Itoa(i)))
			}
		}
	case "object":
		d.object(root, r, n, path, bad)
	}
	for _, sub := range r.AllOf {
		d.against(root, sub, n, path)
	}
	if len(r.AnyOf) > 0 && d.fitting(root, r.AnyOf, n) == 0 {
		bad("it needs one of %s", required(r.AnyOf))
	}
	if len(r.OneOf) > 0 && d.fitting(root, r.OneOf, n) != 1 {
		bad("it needs exactly one of %s", required(r.OneOf))
	}
}

func (d *Document) object(root, r *schemaRule, n *yaml.Node, path []string, bad func(string, ...any)) {
	count := len(n.Content) / 2
	if count < r.MinProperties {
		bad("it must not be empty")
	}
	if r.MaxProperties != nil && count > *r.MaxProperties {
		bad("it has more than %d entries", *r.MaxProperties)
	}
	there := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		at := append(path[:len(path):len(path)], key.Value)
		if there[key.Value] {
			d.failAt(key, "%s: it stands twice", strings.Join(at, "."))
		}
		there[key.Value] = true
		if r.PropertyNames != nil && r.PropertyNames.Pattern != "" && !regexp.MustCompile(r.PropertyNames.Pattern).MatchString(key.Value) {
			d.failAt(key, "%s: the name %q does not match %s", strings.Join(at, "."), key.Value, r.PropertyNames.Pattern)
		}
		switch known := r.Properties[key.Value]; {
		case known != nil:
			d.against(root, known, value, at)
		case r.additional != nil:
			d.against(root, r.additional, value, at)
		case r.additionalDenied:
			names := make([]string, 0, len(r.Properties))
			for name := range r.Properties {
				names = append(names, name)
			}
			sort.Strings(names)
			d.failAt(key, "%s: there is no such key; there are %s.%s", strings.Join(at, "."), strings.Join(names, ", "), nearest.Hint(key.Value, names))
		}
	}
	for _, name := range r.Required {
		if !there[name] {
			bad("%q is missing", name)
		}
	}
}

// fitting counts the alternatives that the node fits.
func (d *Document) fitting(root *schemaRule, alternatives []*schemaRule, n *yaml.Node) int {
	fits := 0
	for _, a := range alternatives {
		trial := &Document{File: d.File}
		trial.against(root, a, n, nil)
		if len(trial.complaints) == 0 {
			fits++
		}
	}
	return fits
}

func required(alternatives []*schemaRule) string {
	var names []string
	for _, a := range alternatives {
		names = append(names, strings.Join(a.Required, " and "))
	}
	return strings.Join(names, ", ")
}

func article(kind string) string {
	switch kind {
	case "object":
		return "a mapping"
	case "array":
		return "a list"
	case "string":
		return "text"
	case "integer":
		return "a whole number"
	case "boolean":
		return "true or false"
	case "null":
		return "nothing"
	}
	return "a " + kind
}
