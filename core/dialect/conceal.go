package dialect

import (
	"regexp"
	"slices"
	"strings"

	"vergekeep/core/config"
	"vergekeep/core/pattern"
)

// Conceal hides what may be secret in anything that a device said: parts of
// configurations, prompts, banners, answers cut short. There is no knowing what
// section such a line is in, so it hides rather too much than too little: what
// any of the dialect's secret patterns finds on the line, wherever it stands;
// what follows a word that speaks of secrets; long words that look like keys or
// hashes; and everything inside a block of armour. Lines stay lines.
func (d *Dialect) Conceal(said string) string {
	// Where enough of a configuration is there, this finds exactly its secrets,
	// blocks of several lines among them.
	masked := strings.SplitAfter(d.Masked(said), "\n")
	n := 0
	var b strings.Builder
	b.Grow(len(said))
	loose := d.loose()
	armour, joined := false, "" // joined is what the line before left to go on with
	for line := range strings.Lines(said) {
		body := strings.TrimRight(line, "\r\n")
		end := line[len(body):]
		hidden, exact := body, strings.TrimRight(masked[n], "\r\n")
		n++
		switch {
		case exact != body && strings.TrimSpace(exact) == Mask:
			hidden = exact
		case armour && body != "":
			hidden = Mask
			if at := strings.Index(body, "-----END"); at >= 0 {
				armour, hidden = false, strings.Repeat(Mask, min(at, 1))+armourEnd.FindString(body[at:])
			}
		case strings.Contains(body, "-----BEGIN"):
			// What stands behind the sign may be all of it, in one line.
			at := strings.Index(body, "-----BEGIN")
			sign := armourBegin.FindString(body[at:])
			hidden = d.concealLine(loose, body[:at]) + sign
			if body[at+len(sign):] != "" {
				hidden += Mask
			}
			armour = !strings.Contains(body, "-----END")
		default:
			hidden = d.concealLine(loose, body)
			if exact != body && !strings.Contains(hidden, Mask) {
				hidden = exact
			}
		}
		whole := joined + strings.TrimSpace(body)
		if joined != "" && body != "" && d.concealLine(loose, whole) != whole {
			hidden = Mask
		}
		joined = ""
		if mark := d.goesOn(body); mark >= 0 && len(whole) < maxJoined {
			joined = whole[:max(0, len(whole)-(len(strings.TrimRight(body, " "))-mark))]
		}
		b.WriteString(hidden)
		b.WriteString(end)
	}
	return b.String()
}

// maxJoined bounds how long a line that goes on is followed.
const maxJoined = 16 << 10

// goesOn is where the mark stands by which the dialect joins the line with the
// next; -1 where there is none.
func (d *Dialect) goesOn(line string) int {
	for _, t := range d.Clean {
		if t.Join == nil || t.Join.Mark == nil {
			continue
		}
		if m := t.Join.Mark.FindStringIndex(line); m != nil {
			return m[0]
		}
	}
	return -1
}

// loose are the last steps of the secret patterns, under any headings.
func (d *Dialect) loose() *pattern.Set {
	list := make([]*pattern.Pattern, len(d.Secrets))
	for i, s := range d.Secrets {
		list[i] = s.Pattern.Line()
	}
	return pattern.NewSet(list...)
}

var (
	// A word that speaks of secrets, as far as a value can follow it.
	tellsOfSecret = regexp.MustCompile(`(?i)(passw|passphrase|secret|community|private|sealed|hash|digest|credential|token|auth-|key|md5|sha\d*|psk)[\w-]*["'>:=\s]+`)
	armourBegin   = regexp.MustCompile(`^-----BEGIN [A-Z0-9 ]{1,60}-----`)
	armourEnd     = regexp.MustCompile(`^-----END [A-Z0-9 ]{1,60}-----`)
	// What looks like a key or a hash: long, of letters with digits or signs.
	keyLike = regexp.MustCompile(`[A-Za-z0-9+/=_$.-]{20,}`)
)

// What closes a value, so that what is concealed can still be read.
var tails = map[config.Reader]*regexp.Regexp{
	config.XML: regexp.MustCompile(`(</[^<>\s]+>)+\s*$`), config.JSON: regexp.MustCompile(`"?[\]}]*,?\s*$`), config.Brace: regexp.MustCompile(`[;{]\s*$`),
}

// tail is where a line's closing signs start.
func (d *Dialect) tail(line string) int {
	if re := tails[d.Syntax.Reader]; re != nil {
		if m := re.FindStringIndex(line); m != nil {
			return m[0]
		}
	}
	return len(line)
}

func (d *Dialect) concealLine(loose *pattern.Set, line string) string {
	tree := config.Parse(strings.TrimSpace(line)+"\n", d.Syntax)
	from := -1
	loose.Find(tree, func(_ int, m pattern.Match) {
		at := 0 // a whole block: all of it
		if w, ok := m.Get("secret"); ok {
			at = int(w.At.From)
		}
		if from < 0 || at < from {
			from = at
		}
	})
	if from >= 0 {
		from += len(line) - len(strings.TrimLeft(line, " \t"))
	}
	if m := tellsOfSecret.FindStringIndex(line); m != nil && strings.TrimSpace(line[m[1]:]) != "" && (from < 0 || m[1] < from) {
		from = m[1]
	}
	if from >= 0 {
		if d.Syntax.Reader == config.JSON && from < len(line) && line[from] == '"' {
			from++
		}
		return line[:min(from, len(line))] + Mask + line[max(from, d.tail(line)):]
	}
	return keyLike.ReplaceAllStringFunc(line, func(word string) string {
		if strings.ContainsAny(word, "0123456789") && strings.ContainsAny(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ") {
			return Mask
		}
		return word
	})
}

// SecretsIn lists the secrets that stand in a configuration, as they stand.
func (d *Dialect) SecretsIn(text string) []string {
	var list []string
	spans, _, _ := d.marks(d.Tree(text))
	for _, s := range spans {
		list = append(list, text[s.at.From:s.at.To])
	}
	return list
}

// Hider masks secrets that are known, wherever they stand. Of two that start
// alike the longer one counts.
func Hider(secrets ...string) *strings.Replacer {
	secrets = slices.Clone(secrets)
	slices.SortFunc(secrets, func(a, b string) int { return len(b) - len(a) })
	var pairs []string
	for _, s := range secrets {
		if s != "" {
			pairs = append(pairs, s, Mask)
		}
	}
	return strings.NewReplacer(pairs...)
}
