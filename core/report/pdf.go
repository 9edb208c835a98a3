package report

import (
	"io"
	"strconv"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"

	"vergekeep/core/diff"
)

// tints are the colours of lines, text and ground.
var tints = map[diff.Kind][6]int{
	diff.Removed: {0x8A, 0x3B, 0x00, 0xFC, 0xE8, 0xD8},
	diff.Added:   {0x0A, 0x4A, 0x8C, 0xE1, 0xED, 0xFB},
	diff.Moved:   {0x55, 0x30, 0x9A, 0xED, 0xE6, 0xFA},
	diff.Changed: {0x7A, 0x4E, 0x00, 0xFB, 0xEE, 0xD2},
}

// Sizes on paper, in millimetres and points.
const (
	margin = 12.0
	row    = 4.2
	size   = 8.0
)

// paper is pages of A3 in landscape that are being written.
type paper struct {
	*fpdf.Fpdf
	width, character float64 // of a page, and of a character
}

func newPaper(title, footer string, made time.Time) *paper {
	p := &paper{Fpdf: fpdf.New("L", "mm", "A3", "")}
	p.AddUTF8FontFromBytes("mono", "", gomono.TTF)
	p.AddUTF8FontFromBytes("mono", "B", gomonobold.TTF)
	p.SetTitle(title, true)
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, margin+4)
	p.SetCreationDate(made)
	p.SetModificationDate(made)
	p.AliasNbPages("{pages}")
	p.SetFooterFunc(func() {
		p.SetY(-margin)
		p.SetFont("mono", "", 7)
		p.SetTextColor(0x55, 0x62, 0x6E)
		p.CellFormat(0, row, footer, "", 0, "L", false, 0, "")
		p.CellFormat(0, row, "page "+strconv.Itoa(p.PageNo())+" of {pages}", "", 0, "R", false, 0, "")
	})
	p.AddPage()
	p.width, _ = p.GetPageSize()
	p.SetFont("mono", "", size)
	p.character = p.GetStringWidth("0")
	return p
}

func (p *paper) ink() { p.SetTextColor(0x1B, 0x26, 0x31) }

func (p *paper) text(style string, points float64, s string) {
	p.ink()
	p.SetFont("mono", style, points)
	for _, line := range wrap(printable(s), int((p.width-2*margin)/(p.character*points/size))-1) {
		p.CellFormat(0, row*points/size, line, "", 1, "L", false, 0, "")
	}
}

// rows writes the rows of a comparison, under the headings of their sections.
func (p *paper) rows(rows []diff.Row) {
	section := "\x00"
	for _, r := range rows {
		if r.Kind == diff.Skipped {
			p.text("", 7, "… "+plural(r.Count, "line", "lines")+" without a difference that counts")
			section = "\x00"
			continue
		}
		if path := strings.Join(r.Path, " > "); r.Kind != diff.Equal && r.Aside == diff.Counts && path != section {
			section = path
			if path == "" {
				path = "(top)"
			}
			p.Ln(1)
			p.text("B", size, path)
		}
		for _, l := range Lines(r) {
			p.line(l)
		}
	}
}

func (p *paper) line(l Line) {
	p.SetFont("mono", "", size)
	numbers := 12 * p.character
	room := int((p.width-2*margin-2*numbers-3*p.character)/p.character) - 1
	tint, tinted := tints[l.Kind]
	tinted = tinted && l.Aside == diff.Counts
	for i, piece := range wrap(printable(l.Text), room) {
		p.SetTextColor(0x5F, 0x69, 0x73)
		left, right, mark := l.LeftNumber, l.RightNumber, l.Mark
		if i > 0 {
			left, right, mark = "", "", " "
		}
		p.CellFormat(numbers/1.5, row, left, "", 0, "R", false, 0, "")
		p.CellFormat(numbers/1.5, row, right, "", 0, "R", false, 0, "")
		if tinted {
			p.SetTextColor(tint[0], tint[1], tint[2])
			p.SetFillColor(tint[3], tint[4], tint[5])
		} else if l.Aside == diff.Counts {
			p.ink()
		}
		p.CellFormat(3*p.character, row, mark, "", 0, "C", tinted, 0, "")
		p.CellFormat(0, row, piece, "", 1, "L", tinted, 0, "")
	}
}

// PDF writes the comparison on pages of A3 in landscape.
func (c *Comparison) PDF(w io.Writer) error {
	p := newPaper(c.Left.Name+" against "+c.Right.Name, c.footer(), c.Made)
	p.text("B", 12, c.Sentence())
	p.Ln(2)
	for _, s := range []Side{c.Left, c.Right} {
		p.text("B", 9, s.Name)
		for _, line := range c.about(s) {
			p.text("", 7, line)
		}
		p.Ln(1.5)
	}
	p.rows(c.Rows)
	return p.Output(w)
}
