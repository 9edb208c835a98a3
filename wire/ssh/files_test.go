package ssh

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/reason"
)

// spoken is the other side of a copy: it says something and takes anything.
type spoken struct {
	io.Reader
	told bytes.Buffer
}

func (s *spoken) Write(p []byte) (int, error) { return s.told.Write(p) }

func copied(said string, limit int) ([]byte, string, error) {
	s := &spoken{Reader: strings.NewReader(said)}
	text, err := sink(s, limit)
	return text, s.told.String(), err
}

func TestACopyArrivesWholeOrNotAtAll(t *testing.T) {
	for name, c := range map[string]struct {
		said, want string
		code       reason.Code
		err        error
	}{
		"a file":             {said: "C0644 5 startup\nhello\x00", want: "hello"},
		"an empty one":       {said: "C0644 0 startup\n\x00", want: ""},
		"with times before":  {said: "T1 0 1 0\nC0644 5 startup\nhello\x00", want: "hello"},
		"a name with blanks": {said: "C0644 2 my start up\nhi\x00", want: "hi"},
		"bytes of no text":   {said: "C0644 3 x\n\x00\xff\n\x00", want: "\x00\xff\n"},
		"not there":          {said: "\x01scp: startup: No such file\n", code: reason.DeviceError},
		"fatal":              {said: "\x02lost\n", code: reason.DeviceError},
		"cut short":          {said: "C0644 5 startup\nhel", err: io.ErrUnexpectedEOF},
		"without its end":    {said: "C0644 5 startup\nhello", err: io.EOF},
		"not whole":          {said: "C0644 5 startup\nhello\x01", code: reason.Incomplete},
		"nothing":            {said: "", err: io.EOF},
		"an empty line":      {said: "\n", code: reason.Protocol},
		"a folder":           {said: "D0755 0 etc\n", code: reason.Protocol},
		"no size":            {said: "C0644 x startup\n", code: reason.Protocol},
		"below nothing":      {said: "C0644 -1 startup\n", code: reason.Protocol},
		"no name":            {said: "C0644 5\n", code: reason.Protocol},
		"too large":          {said: "C0644 1001 startup\n", err: ErrTooMuch},
		"a line without end": {said: strings.Repeat("x", 10_000), code: reason.Protocol},
		"times without end":  {said: strings.Repeat("T1 0 1 0\n", 50), code: reason.Protocol},
	} {
		t.Run(name, func(t *testing.T) {
			text, told, err := copied(c.said, 1000)
			if c.code == "" && c.err == nil {
				require.NoError(t, err)
				assert.Equal(t, c.want, string(text))
				assert.Empty(t, strings.Trim(told, "\x00"), "only confirmations are sent")
				return
			}
			require.Error(t, err)
			assert.Nil(t, text, "never a part of it")
			if c.err != nil {
				assert.ErrorIs(t, err, c.err)
			} else {
				assert.Equal(t, c.code, reason.Of(err, ""), "%v", err)
			}
		})
	}
}

func FuzzSink(f *testing.F) {
	f.Add("C0644 5 startup\nhello\x00")
	f.Add("T1 0 1 0\nC0644 0 x\n\x00")
	f.Fuzz(func(t *testing.T, said string) {
		text, told, err := copied(said, 1<<10)
		if err == nil && len(text) > 1<<10 {
			t.Fatal("more than the limit")
		}
		if err != nil && text != nil {
			t.Fatal("a part of a file came with an error")
		}
		if strings.Trim(told, "\x00") != "" {
			t.Fatal("something else than confirmations was sent")
		}
	})
}
