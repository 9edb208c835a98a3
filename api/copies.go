package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/service/accounts"
	"vergekeep/service/copies"
	"vergekeep/wire/ssh"
)

func apiCopy(k copies.Copy) gen.Copy {
	out := gen.Copy{Name: k.Name, Destination: k.Destination, Names: k.Names, Selector: k.Selector, Credential: k.Credential, Secrets: k.Secrets,
		LastRun: moment(k.LastRun), LastGood: moment(k.LastGood), LastSaid: some(k.LastSaid), LastFailed: some(k.LastFailed)}
	if k.HostKey != "" {
		out.HostKey = some(ssh.Fingerprint(k.HostKey))
	}
	return out
}

// ListCopies implements listCopies.
func (s *server) ListCopies(c *gin.Context) {
	list, err := s.Copies.List(c)
	answer(s, c, http.StatusOK, each(list, apiCopy), err)
}

// SetCopy implements setCopy. A copy with secrets hands them to whoever reads it
// there.
func (s *server) SetCopy(c *gin.Context, name gen.Name) {
	in, ok := body[gen.CopyEdit](s, c)
	if !ok {
		return
	}
	a := caller(c)
	if value(in.Secrets) && !a.May(accounts.SeeSecrets) {
		problem(c, http.StatusForbidden, "This takes the right see-secrets.", "A copy with secrets takes the rights administer and see-secrets; leave the secrets out.")
		return
	}
	k, err := s.Copies.Set(c, copies.Copy{Name: name, Destination: in.Destination, Names: value(in.Names), Selector: value(in.Selector), Credential: value(in.Credential), Secrets: value(in.Secrets)}, a.Name)
	answer(s, c, http.StatusOK, apiCopy(k), err)
}

// DeleteCopy implements deleteCopy.
func (s *server) DeleteCopy(c *gin.Context, name gen.Name) {
	s.done(c, s.Copies.Delete(c, name, caller(c).Name))
}

// RunCopy implements runCopy.
func (s *server) RunCopy(c *gin.Context, name gen.Name) {
	k, err := s.Copies.Run(c, name)
	answer(s, c, http.StatusOK, apiCopy(k), err)
}

// TrustCopy implements trustCopy.
func (s *server) TrustCopy(c *gin.Context, name gen.Name) {
	in, ok := body[gen.Why](s, c)
	if !ok {
		return
	}
	s.done(c, s.Copies.Forget(c, name, in.Why, caller(c).Name))
}

// SendHeads implements sendHeads.
func (s *server) SendHeads(c *gin.Context, name gen.Name) {
	in, ok := body[gen.SignedHeads](s, c)
	if !ok {
		return
	}
	s.done(c, s.Copies.Send(c, name, in.Name+".json", in.Data))
}
