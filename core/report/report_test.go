package report

import (
	"bytes"
	"encoding/csv"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/config"
	"vergekeep/core/diff"
)

func comparison(left, right string) *Comparison {
	side := func(text string) diff.Side {
		tree := config.Parse(text, config.Syntax{})
		return diff.Side{Text: text, PathAt: tree.PathAt, Structure: &diff.Structure{Tree: tree}}
	}
	r := diff.Compare(side(left), side(right))
	at := time.Date(2026, 11, 23, 2, 10, 0, 0, time.UTC)
	return &Comparison{
		Left:  Side{Name: "np-acc-2@41", Since: at.AddDate(0, 0, -9), Seen: at.Add(-time.Hour), Hash: strings.Repeat("a", 64), Lines: strings.Count(left, "\n")},
		Right: Side{Name: "np-acc-2@42", Since: at, Seen: at, Hash: strings.Repeat("b", 64), Lines: strings.Count(right, "\n")},
		Made:  at, By: "lead", Identical: r.Identical(), Stats: r.Stats, Rows: r.Rows(1),
	}
}

const left = "interface port1/24\n  lan trunk 10,20,30\n  spanning guard root\ntime\n  server 192.0.2.1\n  zone Europe/Oslo\nlog\n  server 192.0.2.40\n"
const right = "interface port1/24\n  lan trunk 10,20,30,99\n  mirror to <port1/3> & é ↕\ntime\n  zone Europe/Oslo\n  server 192.0.2.1\nlog\n  server 192.0.2.40\n  =cmd|' /C calc'!A0\n"

func TestTheTableNamesTheParameter(t *testing.T) {
	c := comparison(left, right)
	var got [][4]string
	for _, cell := range Cells(c.Rows) {
		got = append(got, [4]string{strings.Join(cell.Path, " > "), cell.Parameter, cell.Left, cell.Right})
	}
	assert.Equal(t, [][4]string{
		{"interface port1/24", "lan trunk", "10,20,30", "10,20,30,99"},
		{"interface port1/24", "spanning guard", "root", ""},
		{"interface port1/24", "mirror to <port1/3> & é", "", "↕"},
		{"log", "=cmd|' /C", "", "calc'!A0"},
	}, got)
}

func TestCSVIsATableThatNoSpreadsheetRuns(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, comparison(left, right).CSV(&b))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 5)
	assert.Equal(t, []string{"section", "parameter", "what", "np-acc-2@41", "np-acc-2@42", "line left", "line right"}, rows[0])
	assert.Equal(t, "'=cmd|' /C", rows[4][1])
}

func TestTextSaysAll(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, comparison(left, right).Text(&b))
	for _, says := range []string{"left   np-acc-2@41\n", "SHA-256 " + strings.Repeat("b", 64), "1 line changed, 1 removed, 2 added; set aside: 1 line in another place where order does not count.",
		"\ninterface port1/24\n", "    2       −   lan trunk 10,20,30\n", "          2 +   lan trunk 10,20,30,99\n", "Made 2026-11-23 02:10:00 UTC for lead."} {
		assert.Contains(t, b.String(), says)
	}
}

func TestHTMLStandsAloneAndEscapes(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, comparison(left, right).HTML(&b))
	page := b.String()
	assert.Contains(t, page, "mirror to &lt;port1/3&gt; &amp; é")
	assert.Contains(t, page, "10,20,30<u>,99</u>")
	assert.NotContains(t, page, "http")
	assert.NotContains(t, page, "<script")
}

func TestIdenticalIsAResultToo(t *testing.T) {
	c := comparison(left, left)
	for name, write := range map[string]func(*Comparison) error{
		"text": func(c *Comparison) error {
			var b bytes.Buffer
			err := c.Text(&b)
			assert.Contains(t, b.String(), "They are identical, byte for byte.")
			assert.Contains(t, b.String(), "SHA-256 ")
			return err
		},
		"html": func(c *Comparison) error {
			var b bytes.Buffer
			err := c.HTML(&b)
			assert.Contains(t, b.String(), "<h1>They are identical, byte for byte.</h1>")
			return err
		},
	} {
		require.NoError(t, write(c), name)
	}
}

// TestPDFIsReadByAnother gives it to a reader of PDF.
func TestPDFIsReadByAnother(t *testing.T) {
	var b bytes.Buffer
	long := right + strings.Repeat("  remark "+strings.Repeat("x", 400)+"\n", 200)
	require.NoError(t, comparison(left, long).PDF(&b))
	assert.True(t, bytes.HasPrefix(b.Bytes(), []byte("%PDF-1.")))
	assert.Contains(t, b.String(), "%%EOF")
	reader, err := exec.LookPath("pdftotext")
	require.NoError(t, err, "pdftotext is needed: scripts/install installs it")
	file := t.TempDir() + "/a.pdf"
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	out, err := exec.Command(reader, "-layout", file, "-").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "lan trunk 10,20,30,99")
	assert.Contains(t, string(out), "page 2 of ")
}
