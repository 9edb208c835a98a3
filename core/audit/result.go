package audit

import "fmt"

// Outcome is what became of a rule on a configuration.
type Outcome string

// The outcomes.
const (
	Pass          Outcome = "pass"
	Fail          Outcome = "fail"
	Undecidable   Outcome = "undecidable"
	NotApplicable Outcome = "not-applicable"
)

// Result is what one rule says of one configuration.
type Result struct {
	Rule    *Rule
	Outcome Outcome
	Why     string // in a sentence; of a pass nothing
	Proofs  []Proof
	More    int // places beyond those of Proofs
}

// Proof is one place that is wrong.
type Proof struct {
	Line, LastLine int      // of the text, from 1; where something lacks, of the section that lacks it, or 0
	Path           []string // headings above it
	Text           string   // the line, with secrets masked; "" where there is none
	Says           string   // what is wrong with it
}

// MaxProofs is how many places a result holds.
const MaxProofs = 50

func (r *Result) fail(p Proof) {
	r.Outcome = Fail
	if len(r.Proofs) >= MaxProofs {
		r.More++
		return
	}
	r.Proofs = append(r.Proofs, p)
}

// sum says what is wrong in one sentence.
func (r *Result) sum() {
	switch n := len(r.Proofs) + r.More; {
	case r.Outcome == Fail && n == 1:
		r.Why = r.Proofs[0].Says
	case r.Outcome == Fail:
		r.Why = fmt.Sprintf("%d places: %s", n, r.Proofs[0].Says)
	}
}
