package conversation

import "bytes"

// screen turns what a terminal would be sent into the lines that a person
// would see: control sequences (ECMA-48) and NULs are taken out, a carriage
// return or backspace lets text be written over, and "\r\n" is a line end.
type screen struct {
	buf   []byte
	line  int // where the unfinished last line starts
	col   int // the cursor in the last line
	state scanState
	param []byte
}

type scanState uint8

const (
	plain scanState = iota
	afterCR
	afterESC
	inCSI     // ESC [ … final byte
	inString  // ESC ] or P … BEL or ESC \
	stringESC // an ESC within a string
	oneMore   // ESC ( and its kin take one more byte
)

// write adds what arrived.
func (s *screen) write(p []byte) {
	for len(p) > 0 {
		if s.state == plain && s.col == len(s.buf)-s.line {
			// The usual case: text at the end of the line.
			n := 0
			for n < len(p) && (p[n] >= ' ' && p[n] != 0x7f || p[n] == '\n' || p[n] == '\t') {
				n++
			}
			// "\r\n" is so common that it is taken here too.
			if n > 0 {
				s.append(p[:n])
			}
			p = p[n:]
			if len(p) > 1 && p[0] == '\r' && p[1] == '\n' {
				s.append(p[1:2])
				p = p[2:]
				continue
			}
			if len(p) == 0 {
				return
			}
		}
		s.put(p[0])
		p = p[1:]
	}
}

func (s *screen) append(p []byte) {
	s.buf = append(s.buf, p...)
	if n := bytes.LastIndexByte(p, '\n'); n >= 0 {
		s.line = len(s.buf) - len(p) + n + 1
	}
	s.col = len(s.buf) - s.line
}

func (s *screen) put(c byte) {
	switch s.state {
	case afterCR:
		s.state = plain
		switch c {
		case '\n':
			s.append([]byte{'\n'})
			return
		case '\r':
			s.state = afterCR
			return
		}
		s.carriageReturn()
	case afterESC:
		switch c {
		case '[':
			s.state, s.param = inCSI, s.param[:0]
		case ']', 'P', '^', '_', 'X':
			s.state = inString
		case '(', ')', '*', '+', '#', '%', ' ':
			s.state = oneMore
		default:
			s.state = plain
		}
		return
	case inCSI:
		if c >= 0x40 && c <= 0x7e {
			s.state = plain
			if c == 'K' {
				s.erase()
			}
		} else if len(s.param) < 16 {
			s.param = append(s.param, c)
		}
		return
	case inString:
		switch c {
		case 0x07:
			s.state = plain
		case 0x1b:
			s.state = stringESC
		}
		return
	case stringESC:
		s.state = inString
		if c == '\\' {
			s.state = plain
		}
		return
	case oneMore:
		s.state = plain
		return
	}
	switch {
	case c == '\r':
		s.state = afterCR
	case c == '\n':
		s.append([]byte{'\n'})
	case c == 0x1b:
		s.state = afterESC
	case c == '\b':
		if s.col > 0 {
			s.col--
		}
	case c == '\t' || c >= ' ' && c != 0x7f:
		if at := s.line + s.col; at < len(s.buf) {
			s.buf[at] = c
		} else {
			s.buf = append(s.buf, c)
		}
		s.col++
	}
}

// carriageReturn moves to the start of the line. A line of nothing but blanks
// was wiped, as pagers do with their own text: it is empty.
func (s *screen) carriageReturn() {
	s.col = 0
	if len(bytes.TrimLeft(s.buf[s.line:], " ")) == 0 {
		s.buf = s.buf[:s.line]
	}
}

// erase is EL (ECMA-48, 8.3.41).
func (s *screen) erase() {
	switch string(s.param) {
	case "", "0":
		s.buf = s.buf[:min(len(s.buf), s.line+s.col)]
	case "2":
		s.buf = s.buf[:s.line]
		s.col = 0
	}
}

// last is the unfinished last line, from offset from on.
func (s *screen) last(from int) []byte { return s.buf[min(max(s.line, from), len(s.buf)):] }

// wipe takes the unfinished last line away.
func (s *screen) wipe() {
	s.buf = s.buf[:s.line]
	s.col = 0
}
