package fleet

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"vergekeep/core/nearest"
	"vergekeep/core/selector"
	"vergekeep/service/journal"
	"vergekeep/store"
)

// ErrImport is wrapped where a list of devices cannot be read at all.
var ErrImport = errors.New("not a list of devices")

// maxImport is how many devices one list may hold.
const maxImport = 100_000

// Columns are the fields of a list of devices, in the order of an export.
var Columns = []string{"name", "address", "platform", "site", "role", "labels", "pair", "transport", "via", "patience", "old-algorithms", "serial", "state", "zone"}

// Format is how a list of devices is written.
type Format string

// The formats. JSON is read as YAML, which it is a part of.
const (
	CSV  Format = "csv"
	YAML Format = "yaml"
	JSON Format = "json"
)

// Fate is what becomes of a line of an import.
type Fate string

// The fates.
const (
	FateAdd       Fate = "add"
	FateChange    Fate = "change"
	FateUnchanged Fate = "unchanged"
	FateRefuse    Fate = "refuse"
	FatePause     Fate = "pause" // a device that is no longer in an import kept in step
)

// Line is one device of an import, and what becomes of it.
type Line struct {
	Line int // of the text, from 1; 0 for a device that is not in it
	Name string
	Fate Fate
	What string

	device Device
	was    string
	said   []string
}

// Import is a list of devices to take in.
type Import struct {
	Text   string
	Format Format // guessed if ""
	Change bool   // records that exist are changed, else they are left alone
	// Source is the name of the import that is kept in step, or "". It may
	// change its own devices, and pauses those that are no longer in the list.
	Source string
	DryRun bool
}

// record is a device as a list has it; what is left out is nil.
type record struct {
	line   int
	fields map[string]string
}

// Take reads a list of devices, says what becomes of each line, and does it
// unless it is a dry run. All good lines are taken in one transaction.
func (f *Fleet) Take(ctx context.Context, in Import, by string) ([]Line, error) {
	records, err := parseImport(in.Text, in.Format)
	if err != nil {
		return nil, err
	}
	existing, err := f.List(ctx, selector.Selector{})
	if err != nil {
		return nil, err
	}
	lines := f.plan(in, records, existing)
	if in.DryRun {
		return lines, nil
	}
	err = f.db.Write(ctx, func(tx *store.Tx) error {
		for i := range lines {
			l := &lines[i]
			var err error
			switch l.Fate {
			case FateAdd:
				_, err = f.insert(tx, l.device, by)
			case FateChange, FatePause:
				err = f.update(tx, l.was, l.device, l.said, by)
			}
			if err == nil && in.Source != "" && l.device.ID != 0 && l.Fate != FateRefuse {
				_, err = tx.Exec(`UPDATE devices SET vanished = ? WHERE id = ? AND vanished <> ?1`, l.Fate == FatePause, l.device.ID)
			}
			if err != nil {
				return fmt.Errorf("line %d, %s: %w", l.Line, l.Name, err)
			}
		}
		count := map[Fate]int{}
		for _, l := range lines {
			count[l.Fate]++
		}
		if count[FateAdd]+count[FateChange]+count[FatePause] == 0 {
			return nil
		}
		return journal.Append(tx, journal.Entry{At: f.now(), Account: by, Action: "device import", Object: orNone(in.Source),
			Detail: fmt.Sprintf("%d added, %d changed, %d paused, %d refused", count[FateAdd], count[FateChange], count[FatePause], count[FateRefuse])})
	})
	return lines, err
}

func (f *Fleet) plan(in Import, records []record, existing []Device) []Line {
	by := map[string]*Device{}
	for i := range existing {
		by[strings.ToLower(existing[i].Name)] = &existing[i]
	}
	seen := map[string]int{}
	var lines []Line
	for _, r := range records {
		l := Line{Line: r.line, Name: r.fields["name"]}
		refuse := func(format string, args ...any) {
			l.Fate, l.What = FateRefuse, fmt.Sprintf(format, args...)
		}
		key := strings.ToLower(l.Name)
		old := by[key]
		if first, twice := seen[key]; twice {
			refuse("line %d has the same name", first)
			lines = append(lines, l)
			continue
		}
		seen[key] = r.line
		var d Device
		if old != nil {
			d = *old
			d.Labels, d.Addresses = slices.Clone(old.Labels), slices.Clone(old.Addresses)
		}
		change, err := r.change()
		if err == nil {
			if old != nil && old.Source == in.Source && in.Source != "" && old.State == Paused && change.State == nil && f.vanished(old.ID) {
				active := string(Active)
				change.State = &active
			}
			if in.Source != "" {
				change.Source = &in.Source
			}
			change.apply(&d)
			if serial, given := r.fields["serial"]; given && old == nil {
				d.Nameplate.Serial = serial
			}
			err = f.check(&d)
		}
		l.device, l.was = d, d.Name
		if err == nil && old != nil {
			l.said = differences(old, &d)
		}
		switch {
		case err != nil:
			refuse("%s", strings.TrimPrefix(err.Error(), ErrInvalid.Error()+": "))
		case old == nil:
			l.Fate, l.What = FateAdd, d.Platform+" at "+d.Address()
		case in.Source != "" && old.Source != "" && old.Source != in.Source:
			refuse("it belongs to the import %s", old.Source)
		case len(l.said) == 0:
			l.Fate = FateUnchanged
		case !in.Change && in.Source == "":
			refuse("it exists and differs (%s); changing it has to be asked for", strings.Join(l.said, "; "))
		default:
			l.Fate, l.What, l.was = FateChange, strings.Join(l.said, "; "), old.Name
		}
		lines = append(lines, l)
	}
	if in.Source == "" {
		return lines
	}
	for i := range existing {
		d := existing[i]
		if _, there := seen[strings.ToLower(d.Name)]; !there && d.Source == in.Source && d.State == Active {
			d.State = Paused
			said := []string{"it is no longer in the import " + in.Source}
			lines = append(lines, Line{Name: d.Name, Fate: FatePause, What: said[0], device: d, was: d.Name, said: said})
		}
	}
	return lines
}

func (f *Fleet) vanished(id int64) bool {
	var yes bool
	return f.db.QueryRow(context.Background(), `SELECT vanished FROM devices WHERE id = ?`, id).Scan(&yes) == nil && yes
}

// fields is the record in the order of [Columns].
func (d *Device) fields() []string {
	patience, old := "", ""
	if d.Patience > 1 {
		patience = strconv.Itoa(d.Patience)
	}
	if d.OldAlgorithms {
		old = "yes"
	}
	return []string{d.Name, d.Address(), d.Platform, d.Site, d.Role, strings.Join(d.Labels, ", "), d.Pair, string(d.Transport), d.Via, patience, old, d.Nameplate.Serial, string(d.State), d.Zone}
}

// change is what a line says, as an edit.
func (r record) change() (Change, error) {
	var c Change
	words := map[string]**string{"name": &c.Name, "address": &c.Address, "platform": &c.Platform, "site": &c.Site, "role": &c.Role, "pair": &c.Pair, "transport": &c.Transport, "via": &c.Via, "zone": &c.Zone}
	for field, value := range r.fields {
		if to, ok := words[field]; ok {
			*to = &value
			continue
		}
		switch field {
		case "state":
			if value != "" {
				c.State = &value
			}
		case "labels":
			labels := []string{}
			for l := range strings.SplitSeq(value, ",") {
				if l = strings.TrimSpace(l); l != "" {
					labels = append(labels, l)
				}
			}
			slices.Sort(labels)
			c.Labels = &labels
		case "patience":
			n := 1
			if value != "" {
				var err error
				if n, err = strconv.Atoi(value); err != nil {
					return c, fmt.Errorf("%w: patience is a number from 1 to 20, not %q", ErrInvalid, value)
				}
			}
			c.Patience = &n
		case "old-algorithms":
			yes := false
			switch strings.ToLower(value) {
			case "yes", "true", "1":
				yes = true
			case "", "no", "false", "0":
			default:
				return c, fmt.Errorf("%w: old-algorithms is yes or no, not %q", ErrInvalid, value)
			}
			c.OldAlgorithms = &yes
		}
	}
	return c, nil
}

func parseImport(text string, format Format) ([]record, error) {
	text = strings.TrimPrefix(text, "\ufeff") // a mark that spreadsheets write
	if format == "" {
		format = guessFormat(text)
	}
	var records []record
	var err error
	switch format {
	case CSV:
		records, err = parseCSV(text)
	case YAML, JSON:
		records, err = parseYAML(text)
	default:
		return nil, fmt.Errorf("%w: the format is csv, yaml or json, not %q", ErrImport, format)
	}
	if err != nil {
		return nil, err
	}
	if len(records) == 0 {
		return nil, fmt.Errorf("%w: it holds no device", ErrImport)
	}
	for _, r := range records {
		if r.fields["name"] == "" {
			return nil, fmt.Errorf("%w: line %d has no name", ErrImport, r.line)
		}
	}
	return records, nil
}

func guessFormat(text string) Format {
	first, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	switch {
	case strings.HasSuffix(strings.TrimSpace(first), ":"), strings.HasPrefix(first, "-"), strings.HasPrefix(first, "["), strings.HasPrefix(first, "{"), strings.HasPrefix(first, "#"):
		return YAML
	}
	return CSV
}

func column(name string) (string, error) {
	key := strings.NewReplacer("_", "-", " ", "-").Replace(strings.ToLower(strings.TrimSpace(name)))
	if !slices.Contains(Columns, key) {
		return "", fmt.Errorf("%w: there is no field %q; there are %s.%s", ErrImport, name, strings.Join(Columns, ", "), nearest.Hint(key, Columns))
	}
	return key, nil
}

func parseCSV(text string) ([]record, error) {
	first, _, _ := strings.Cut(text, "\n")
	r := csv.NewReader(strings.NewReader(text))
	r.TrimLeadingSpace, r.FieldsPerRecord, r.ReuseRecord, r.Comment = true, -1, true, '#'
	if strings.Count(first, ";") > strings.Count(first, ",") {
		r.Comma = ';' // as spreadsheets write it in half of the world
	}
	header, err := r.Read()
	if errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%w: it is empty", ErrImport)
	}
	if err != nil {
		return nil, csvError(err)
	}
	var keys []string
	for _, name := range header {
		key, err := column(name)
		if err != nil {
			return nil, err
		}
		if slices.Contains(keys, key) {
			return nil, fmt.Errorf("%w: the column %s stands twice", ErrImport, key)
		}
		keys = append(keys, key)
	}
	if !slices.Contains(keys, "name") {
		return nil, fmt.Errorf("%w: its first line must name the columns, among them name; there are %s", ErrImport, strings.Join(Columns, ", "))
	}
	var records []record
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return records, nil
		}
		if err != nil {
			return nil, csvError(err)
		}
		line, _ := r.FieldPos(0)
		if len(fields) > len(keys) {
			return nil, fmt.Errorf("%w: line %d has %d fields and the first line names %d", ErrImport, line, len(fields), len(keys))
		}
		rec := record{line: line, fields: map[string]string{}}
		blank := true
		for i, v := range fields {
			rec.fields[keys[i]] = strings.TrimSpace(v)
			blank = blank && rec.fields[keys[i]] == ""
		}
		if blank {
			continue
		}
		if records = append(records, rec); len(records) > maxImport {
			return nil, fmt.Errorf("%w: it has more than %d devices", ErrImport, maxImport)
		}
	}
}

func csvError(err error) error {
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		return fmt.Errorf("%w: line %d: %w", ErrImport, parse.Line, parse.Err)
	}
	return fmt.Errorf("%w: %w", ErrImport, err)
}

func parseYAML(text string) ([]record, error) {
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil {
		return nil, fmt.Errorf("%w: %s", ErrImport, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if len(root.Content) == 0 {
		return nil, fmt.Errorf("%w: it is empty", ErrImport)
	}
	list := root.Content[0]
	if list.Kind == yaml.MappingNode && len(list.Content) == 2 && list.Content[0].Value == "devices" {
		list = list.Content[1]
	}
	if list.Kind != yaml.SequenceNode {
		return nil, fmt.Errorf("%w: line %d: it must be a list of devices", ErrImport, list.Line)
	}
	if len(list.Content) > maxImport {
		return nil, fmt.Errorf("%w: it has more than %d devices", ErrImport, maxImport)
	}
	var records []record
	for _, n := range list.Content {
		if n.Kind != yaml.MappingNode {
			return nil, fmt.Errorf("%w: line %d: a device is a list of fields, such as name: ng-acc-1", ErrImport, n.Line)
		}
		rec := record{line: n.Line, fields: map[string]string{}}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, err := column(n.Content[i].Value)
			if err != nil {
				return nil, fmt.Errorf("%w (line %d)", err, n.Content[i].Line)
			}
			value := n.Content[i+1]
			switch value.Kind {
			case yaml.ScalarNode:
				if value.Tag != "!!null" {
					rec.fields[key] = strings.TrimSpace(value.Value)
				}
			case yaml.SequenceNode:
				var all []string
				for _, v := range value.Content {
					if v.Kind != yaml.ScalarNode {
						return nil, fmt.Errorf("%w: line %d: %s is a list of words", ErrImport, v.Line, key)
					}
					all = append(all, v.Value)
				}
				rec.fields[key] = strings.Join(all, ", ")
			default:
				return nil, fmt.Errorf("%w: line %d: %s is a word or a list of words", ErrImport, value.Line, key)
			}
		}
		records = append(records, rec)
	}
	return records, nil
}
