package audit

import (
	"fmt"
	"strings"

	"vergekeep/core/dialect"
)

// Tried is what became of one example of a rule.
type Tried struct {
	Rule    *Rule
	Example Example
	Result  Result
	Good    bool
}

// Try runs all examples of a policy. A rule that looks across devices is held
// against its one text alone.
func (p *Policy) Try(dialects dialect.Set) ([]Tried, error) {
	var list []Tried
	for _, r := range p.Rules {
		for _, e := range r.examples {
			d := dialects[e.Platform]
			if d == nil {
				return nil, fmt.Errorf("the rule %s has an example of the platform %q, and there is no such dialect", r.Name(), e.Platform)
			}
			text := e.Text
			if !strings.HasSuffix(text, "\n") {
				text += "\n"
			}
			alone := *r
			alone.Applies = picksAll
			results, offers := Compile([]*Rule{&alone}, d).Run(Input{Subject: File{Name: "example", Platform: e.Platform}, View: d.View(text), Main: true})
			out := results[0]
			if len(offers) > 0 {
				offered := make([]Offered, len(offers))
				for i, o := range offers {
					offered[i] = Offered{"another place", o}
				}
				var proofs []Proof
				for _, proof := range Across(offered) {
					proofs = append(proofs, proof)
				}
				out.Settle(proofs)
			}
			list = append(list, Tried{r, e, out, out.Outcome == e.Is})
		}
	}
	return list, nil
}
