package api

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/service/post"
	"vergekeep/wire/mail"
)

// GetMail implements getMail.
func (s *server) GetMail(c *gin.Context) {
	x, err := s.Post.Settings(c)
	answer(s, c, http.StatusOK, gen.Mail{Server: x.Server, Security: string(x.Security), Sender: x.Sender, Credential: x.Credential, Account: x.Account, Changed: x.Changed}, err)
}

// SetMail implements setMail.
func (s *server) SetMail(c *gin.Context) {
	in, ok := body[gen.MailEdit](s, c)
	if !ok {
		return
	}
	s.done(c, s.Post.Set(c, post.Settings{Server: in.Server, Security: mail.Security(value(in.Security)), Sender: in.Sender, Credential: value(in.Credential), Account: caller(c).Name}))
}

// TestMail implements testMail.
func (s *server) TestMail(c *gin.Context) {
	in, ok := body[gen.MailTest](s, c)
	if !ok {
		return
	}
	by := caller(c).Name
	s.done(c, s.Post.Send(c, mail.Message{To: []string{in.To}, Subject: "Verge Keep can send mail", Text: by + " has asked for this message, to see that it arrives.\n"}, by))
}

// MailComparison implements mailComparison. Nobody knows who will read a mail, so
// that secrets are masked in every one.
func (s *server) MailComparison(c *gin.Context) {
	in, ok := body[gen.MailedComparison](s, c)
	if !ok {
		return
	}
	q, ok := asked(c, in.Comparison)
	if !ok {
		return
	}
	who, ok := s.reader(c, in.Comparison.Zone)
	if !ok {
		return
	}
	who.SeeSecrets = false
	cmp, err := s.Texts.Compare(c, q, who)
	if err != nil {
		s.fail(c, err)
		return
	}
	around := 3
	if in.Comparison.Context != nil {
		around = *in.Comparison.Context
	}
	r := apiReport(cmp, cmp.Rows(around), who)
	var text, html, pdf bytes.Buffer
	if err := errors.Join(r.Text(&text), r.HTML(&html), r.PDF(&pdf)); err != nil {
		s.fail(c, err)
		return
	}
	subject := fmt.Sprintf("%s against %s: %s", cmp.Left.Name(), cmp.Right.Name(), r.Stats.Said())
	s.done(c, s.Post.Send(c, mail.Message{To: in.To, Subject: subject, Text: text.String(), HTML: html.String(),
		Files: []mail.File{{Name: fileName(cmp) + ".pdf", Media: "application/pdf", Data: pdf.Bytes()}}}, who.Account))
}
