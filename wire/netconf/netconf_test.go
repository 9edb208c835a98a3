package netconf

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type stream struct {
	io.Reader
	bytes.Buffer
}

func (s *stream) Read(p []byte) (int, error) { return s.Reader.Read(p) }

func framer(in string, chunked bool, limit int) (*Framer, *stream) {
	s := &stream{Reader: strings.NewReader(in)}
	f := NewFramer(s, limit)
	if chunked {
		f.UseChunks()
	}
	return f, s
}

func TestBothFramingsCarryAnyMessage(t *testing.T) {
	for _, chunked := range []bool{false, true} {
		for _, msg := range []string{"<a/>", "x", strings.Repeat("long ", 50_000), "]]>", "\n##\n"} {
			if msg == "]]>" && !chunked {
				continue // RFC 6242, section 3, says why the mark was given up
			}
			out, s := framer("", chunked, 1<<20)
			require.NoError(t, out.WriteMessage([]byte(msg)))
			in, _ := framer(s.Buffer.String()+s.Buffer.String(), chunked, 1<<20)
			for range 2 {
				got, err := in.ReadMessage()
				require.NoError(t, err)
				require.Equal(t, msg, string(got))
			}
			_, err := in.ReadMessage()
			require.ErrorIs(t, err, io.EOF)
		}
	}
}

// TestChunks holds the example of RFC 6242, section 4.2, and what breaks the rules.
func TestChunks(t *testing.T) {
	in, _ := framer("\n#4\n<rpc\n#18\n message-id=\"102\"\n\n#79\n"+strings.Repeat("x", 79)+"\n#8\n</rpc>\n\n\n##\n", true, 1<<20)
	got, err := in.ReadMessage()
	require.NoError(t, err)
	assert.Equal(t, "<rpc message-id=\"102\"\n"+strings.Repeat("x", 79)+"</rpc>\n\n", string(got))
	for bad, want := range map[string]error{
		"x": ErrFraming, "\n#0\n": ErrFraming, "\n#01\nx": ErrFraming, "\n#-1\n": ErrFraming, "\n##\n": ErrFraming, "\n#99999999999999\n": ErrFraming,
		"\n#5\nab": io.ErrUnexpectedEOF, "\n#2\nab": io.ErrUnexpectedEOF, "\n#4000000000\nx": ErrTooLarge, "\n#": io.ErrUnexpectedEOF, "": io.EOF,
	} {
		in, _ := framer(bad, true, 1000)
		_, err := in.ReadMessage()
		assert.ErrorIs(t, err, want, "%q", bad)
	}
}

func TestReplies(t *testing.T) {
	reply := func(body string) []byte {
		return []byte(`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="1">` + body + `</rpc-reply>`)
	}
	data, err := parseReply(reply("<data>\n  <a b='c'>&lt;</a>\n</data>"), "1")
	require.NoError(t, err)
	assert.Equal(t, "\n  <a b='c'>&lt;</a>\n", data, "byte for byte")
	data, err = parseReply(reply("<ok/>"), "1")
	require.NoError(t, err)
	assert.Empty(t, data)
	_, err = parseReply(reply("<rpc-error><error-tag>in-use</error-tag><error-severity>error</error-severity><error-message>busy</error-message></rpc-error>"), "1")
	var rpc *RPCError
	require.ErrorAs(t, err, &rpc)
	assert.Equal(t, "in-use: busy", rpc.Error())
	for _, bad := range []string{"", "<hello/>", "<rpc-reply", "<rpc-reply message-id='2'/>", "<rpc-reply><data></rpc-reply>"} {
		_, err := parseReply([]byte(bad), "1")
		assert.ErrorIs(t, err, ErrProtocol, bad)
	}
}

func FuzzReadMessage(f *testing.F) {
	f.Add("\n#3\nabc\n##\n", true)
	f.Add("abc]]>]]>", false)
	f.Fuzz(func(t *testing.T, in string, chunked bool) {
		fr, _ := framer(in, chunked, 10_000)
		for range 10 {
			msg, err := fr.ReadMessage()
			if err != nil {
				return
			}
			if len(msg) > 10_000 {
				t.Fatal("over the limit")
			}
			if _, err := parseReply(msg, "1"); err != nil && !errors.Is(err, ErrProtocol) {
				var rpc *RPCError
				if !errors.As(err, &rpc) {
					t.Fatal(err)
				}
			}
		}
	})
}

// FuzzParseReply holds that a reply, whatever it is, ends as data that stood in
// it or as an error.
func FuzzParseReply(f *testing.F) {
	f.Add(`<rpc-reply message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><data><a/></data></rpc-reply>`)
	f.Add(`<rpc-reply message-id="1"><rpc-error><error-tag>lock-denied</error-tag><error-severity>error</error-severity></rpc-error></rpc-reply>`)
	f.Add(`<!DOCTYPE x [<!ENTITY a "aaaa">]><rpc-reply message-id="1"><data>&a;</data></rpc-reply>`)
	f.Fuzz(func(t *testing.T, msg string) {
		data, err := parseReply([]byte(msg), "1")
		if err == nil && !strings.Contains(msg, data) {
			t.Fatalf("%q does not stand in %q", data, msg)
		}
		if err != nil && data != "" {
			t.Fatalf("data and an error: %q, %v", data, err)
		}
	})
}
