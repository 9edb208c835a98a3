package audits

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"

	"vergekeep/core/audit"
	"vergekeep/core/selector"
	"vergekeep/store"
)

// index holds what devices offer to rules that look across devices, by key, so that
// one that changed touches only those that it has something in common with.
type index struct {
	rules map[string]*keys  // by "policy/rule", of the version that counts
	dirty map[whose]bool    // whose results another's offers may have changed
	warm  map[string]string // by policy: the version of which all offers are here
}

// whose is a part of a device.
type whose struct {
	device int64
	part   string
}

type keys struct {
	hash  string
	rule  *audit.Rule
	byKey map[string][]offered
	of    map[whose][]audit.Offer
	name  map[whose]string
}

type offered struct {
	whose
	audit.Offer
}

func newIndex() *index {
	return &index{rules: map[string]*keys{}, dirty: map[whose]bool{}, warm: map[string]string{}}
}

// keep forgets what rules offered that no longer count as they did.
func (x *index) keep(l *library) {
	hashes := map[string]string{}
	for _, d := range l.list {
		if d.across {
			for _, r := range d.policy.Rules {
				hashes[r.Name()] = d.hash
			}
		}
	}
	for name, k := range x.rules {
		if hashes[name] != k.hash {
			delete(x.rules, name)
		}
	}
}

// put notes what a configuration offers to the rules of a policy.
func (x *index) put(d *document, me whose, name string, offers []audit.Offer) {
	by := map[*audit.Rule][]audit.Offer{}
	for _, o := range offers {
		by[o.Rule] = append(by[o.Rule], o)
	}
	for _, r := range d.policy.Rules {
		if !r.AcrossDevices() {
			continue
		}
		k := x.rules[r.Name()]
		if k == nil {
			k = &keys{d.hash, r, map[string][]offered{}, map[whose][]audit.Offer{}, map[whose]string{}}
			x.rules[r.Name()] = k
		}
		k.name[me] = name
		before, now := k.of[me], byName(by, r)
		touched := map[string]bool{}
		for _, o := range before {
			touched[o.Key] = true
		}
		for _, o := range now {
			touched[o.Key] = true
		}
		for key := range touched {
			list := slices.DeleteFunc(k.byKey[key], func(o offered) bool { return o.whose == me })
			for _, o := range list {
				x.dirty[o.whose] = true
			}
			for _, o := range now {
				if o.Key == key {
					list = append(list, offered{me, o})
				}
			}
			if len(list) == 0 {
				delete(k.byKey, key)
			} else {
				k.byKey[key] = list
			}
		}
		k.of[me] = now
	}
}

// byName is what is offered to a rule: programs of several platforms have rules of
// the same policy.
func byName(by map[*audit.Rule][]audit.Offer, r *audit.Rule) []audit.Offer {
	for k, list := range by {
		if k.Name() == r.Name() {
			return list
		}
	}
	return nil
}

// addTo adds to a verdict what others offer that clashes with what this
// configuration does.
func (x *index) addTo(v *verdict, me whose) {
	for i := range v.results {
		r := &v.results[i]
		k := x.rules[v.document.name+"/"+r.item]
		if k == nil || r.outcome == audit.NotApplicable || len(k.of[me]) == 0 {
			continue
		}
		proofs := k.clashes(me)
		out := audit.Result{Outcome: r.outcome, Why: r.why, Proofs: slices.Clip(r.proofs), More: r.more}
		out.Settle(proofs)
		r.outcome, r.why, r.proofs, r.more = out.Outcome, out.Why, out.Proofs, out.More
	}
}

// clashes is the proofs of what clashes with the offers of one.
func (k *keys) clashes(me whose) []audit.Proof {
	var proofs []audit.Proof
	seen := map[string]bool{}
	for _, o := range k.of[me] {
		if seen[o.Key] {
			continue
		}
		seen[o.Key] = true
		list := k.byKey[o.Key]
		if len(list) < 2 {
			continue
		}
		all := make([]audit.Offered, len(list))
		for i, x := range list {
			all[i] = audit.Offered{Device: k.name[x.whose], Offer: x.Offer}
		}
		bad := audit.Across(all)
		for i, x := range list {
			if p, is := bad[i]; is && x.whose == me {
				proofs = append(proofs, p)
			}
		}
	}
	slices.SortStableFunc(proofs, func(a, b audit.Proof) int { return a.Line - b.Line })
	return proofs
}

// settleAcross writes anew what rules that look across devices say of those whose
// neighbours changed.
func (s *Service) settleAcross(ctx context.Context) error {
	if len(s.across.dirty) == 0 {
		return nil
	}
	now := s.Now()
	err := s.DB.Write(ctx, func(tx *store.Tx) error {
		for me := range s.across.dirty {
			for _, d := range s.library.list {
				if !d.across {
					continue
				}
				key := stateKey{me.device, me.part, d.key()}
				had := &state{}
				if err := tx.QueryRow(`SELECT id, hash, number, edition, outcomes, agreed, lines FROM audit_states WHERE device_id = ? AND part = ? AND document = ? AND until = 0`, me.device, me.part, key.document).Scan(&had.id, &had.hash, &had.number, &had.edition, &had.outcomes, &had.agreed, &had.lines); errors.Is(err, sql.ErrNoRows) {
					continue // it is not audited by this one
				} else if err != nil {
					return err
				}
				v := verdict{document: d, hash: d.hash}
				changed := false
				for _, r := range d.policy.Rules {
					k := s.across.rules[r.Name()]
					if k == nil || len(k.of[me]) == 0 {
						continue
					}
					out := audit.Result{Rule: r, Outcome: audit.Pass}
					out.Settle(k.clashes(me))
					v.results = append(v.results, result{r.ID, r.Severity, r.Title, out.Outcome, out.Why, out.Proofs, out.More})
					changed = true
				}
				if !changed {
					continue
				}
				partly := v.results
				v.agreed, v.lines, v.results = had.agreed, had.lines, merged(had.outcomes, partly)
				if err := s.state(tx, key, had, &v, had.number, had.edition, now); err != nil {
					return err
				}
				v.results = partly
				var configuration int64
				if err := tx.QueryRow(`SELECT id FROM configurations WHERE device_id = ? AND datastore = 'running' AND part = ?`, me.device, me.part).Scan(&configuration); err != nil {
					return err
				}
				opened, err := s.findings(tx, key, &v, had.number, configuration, now, had, true)
				if err != nil {
					return err
				}
				if err := s.tell(ctx, tx, opened); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err == nil {
		clear(s.across.dirty)
	}
	return err
}

// forget takes away what a configuration offered to rules that are not asked of it any
// more.
func (s *Service) forget(of stateKey) {
	for _, d := range s.library.list {
		if d.across && d.key() == of.document {
			me := whose{of.device, of.part}
			s.across.put(d, me, "", nil)
			delete(s.across.dirty, me)
		}
	}
}

// merged is what a state says with some items' outcomes in the place of the old ones.
func merged(outcomes string, partly []result) []result {
	now := map[string]audit.Outcome{}
	for _, r := range partly {
		now[r.item] = r.outcome
	}
	list := parsed(outcomes)
	for i := range list {
		if o, ok := now[list[i].item]; ok {
			list[i].outcome = o
		}
	}
	return list
}

// warmUp gathers the offers of all configurations that are not among the jobs, for
// policies of which they are not all here.
func (s *Service) warmUp(ctx context.Context, jobs []job) error {
	var cold []*document
	for _, d := range s.library.list {
		if d.across && s.across.warm[d.key()] != d.hash {
			cold = append(cold, d)
		}
	}
	if len(cold) == 0 {
		return nil
	}
	devices, err := s.Fleet.List(ctx, selector.Selector{})
	if err != nil {
		return err
	}
	newest, err := s.newest(ctx, devices)
	if err != nil {
		return err
	}
	busy := map[stateKey]bool{}
	for _, j := range jobs {
		for _, d := range j.documents {
			busy[stateKey{j.device.ID, j.part, d.key()}] = true
		}
	}
	for i := range devices {
		for _, rev := range newest[devices[i].ID] {
			j := job{device: devices[i], part: rev.Part, revision: rev}
			for _, d := range cold {
				if d.isFor(&devices[i], rev) && !busy[stateKey{devices[i].ID, rev.Part, d.key()}] {
					j.documents = append(j.documents, d)
				}
			}
			if len(j.documents) == 0 {
				continue
			}
			verdicts, err := s.one(ctx, &j, &ground{})
			if err != nil {
				return err
			}
			for _, v := range verdicts {
				s.across.put(v.document, whose{j.device.ID, j.part}, j.device.Name, v.offers)
			}
		}
	}
	clear(s.across.dirty) // they are as they were
	for _, d := range cold {
		s.across.warm[d.key()] = d.hash
	}
	// What was found before may be due to what one of the jobs had then.
	rows, err := s.DB.Query(ctx, `SELECT device_id, part, document, outcomes FROM audit_states WHERE until = 0 AND failed > 0`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var me whose
		var document, outcomes string
		if err := rows.Scan(&me.device, &me.part, &document, &outcomes); err != nil {
			return err
		}
		for _, d := range cold {
			if d.key() == document {
				s.across.dirty[me] = s.across.dirty[me] || d.failsAcross(outcomes)
			}
		}
	}
	maps.DeleteFunc(s.across.dirty, func(_ whose, is bool) bool { return !is })
	return rows.Err()
}

// failsAcross reports whether a rule that looks across devices fails.
func (d *document) failsAcross(outcomes string) bool {
	return slices.ContainsFunc(parsed(outcomes), func(x result) bool {
		return x.outcome == audit.Fail && slices.ContainsFunc(d.policy.Rules, func(r *audit.Rule) bool { return r.ID == x.item && r.AcrossDevices() })
	})
}
