package mail

import (
	"mime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/standin/postbox"
)

func open(t *testing.T, when postbox.TLS) (*postbox.Box, Server) {
	t.Helper()
	box, err := postbox.Open(when)
	require.NoError(t, err)
	t.Cleanup(func() { _ = box.Close() })
	security := map[postbox.TLS]Security{postbox.Never: Plain, postbox.AfterGreeting: StartTLS, postbox.FromTheStart: TLS}[when]
	return box, Server{Address: box.Address, Security: security, User: postbox.User, Password: postbox.Password, Roots: box.Roots, Limit: time.Minute}
}

var letter = Message{From: "Verge Keep <keep@skerry.example>", To: []string{"noc@skerry.example", "lead@skerry.example"}, Subject: "np-acc-2: 3 added — Ü", Text: "plain ●\n", HTML: "<p>rich ●</p>",
	Files: []File{{"np-acc-2.pdf", "application/pdf", []byte("%PDF-\x00\xff")}}, ID: "7.change@skerry.example", At: time.Date(2026, 11, 20, 2, 0, 0, 0, time.UTC)}

func TestAMessageArrivesWithItsParts(t *testing.T) {
	for _, when := range []postbox.TLS{postbox.Never, postbox.AfterGreeting, postbox.FromTheStart} {
		box, server := open(t, when)
		require.NoError(t, Send(t.Context(), server, letter), when)
		require.Len(t, box.Letters(), 1)
		got := box.Letters()[0]
		assert.Equal(t, "keep@skerry.example", got.From)
		assert.Equal(t, []string{"noc@skerry.example", "lead@skerry.example"}, got.To)
		assert.Equal(t, "keeper", got.User)
		head, err := got.Header()
		require.NoError(t, err)
		subject, err := new(mime.WordDecoder).DecodeHeader(head.Get("Subject"))
		require.NoError(t, err)
		assert.Equal(t, letter.Subject, subject)
		assert.Equal(t, "<7.change@skerry.example>", head.Get("Message-ID"))
		assert.Equal(t, "auto-generated", head.Get("Auto-Submitted"))
		at, err := head.Date()
		require.NoError(t, err)
		assert.True(t, letter.At.Equal(at))
		parts, err := got.Parts()
		require.NoError(t, err)
		assert.Equal(t, "plain ●\r\n", parts["text/plain"])
		assert.Equal(t, "<p>rich ●</p>", parts["text/html"])
		assert.Equal(t, "%PDF-\x00\xff", parts["application/pdf"])
	}
}

func TestWhatGoesWrongIsSaid(t *testing.T) {
	box, server := open(t, postbox.AfterGreeting)
	fails := func(s Server, m Message, lasting bool, says string) {
		t.Helper()
		err := Send(t.Context(), s, m)
		require.ErrorIs(t, err, ErrSend)
		assert.ErrorContains(t, err, says)
		assert.Equal(t, lasting, Lasting(err), "%v", err)
		assert.NotContains(t, err.Error(), "over-the-verge")
	}
	wrong := server
	wrong.Password = "guessed"
	fails(wrong, letter, true, "535")
	stranger := server
	stranger.Roots = nil
	fails(stranger, letter, false, "certificate")
	away := server
	away.Address = "127.0.0.1:1"
	fails(away, letter, false, "refused")
	nobody := letter
	nobody.To = []string{"nobody@skerry.example"}
	fails(server, nobody, true, "no such mailbox")
	box.Refuse(451, "later")
	fails(server, letter, false, "later")
	box.Refuse(554, "never")
	fails(server, letter, true, "never")
	assert.Empty(t, box.Letters())

	// A server that offers no TLS gets no password.
	_, plain := open(t, postbox.Never)
	plain.Security = StartTLS
	fails(plain, letter, false, "STARTTLS")

	for _, s := range []Server{{Address: "smtp", Security: TLS}, {Address: ":25", Security: TLS}, {Address: "h:0", Security: TLS}, {Address: "h:99999", Security: TLS}, {Address: "h:25", Security: "ssl"}, {Address: "192.0.2.1:25", Security: Plain}} {
		require.ErrorIs(t, Send(t.Context(), s, letter), ErrServer, s.Address)
	}
	for _, to := range [][]string{nil, {""}, {"noc"}, {"a@b\r\nBcc: c@d"}, {strings.Repeat("a", 400) + "@b"}} {
		m := letter
		m.To = to
		require.ErrorIs(t, Send(t.Context(), server, m), ErrAddress, "%q", to)
	}
}
