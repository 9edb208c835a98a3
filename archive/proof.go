package archive

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"vergekeep/core/proof"
)

// Heads are the ends of all chains, for signing. Name gives the name of a device.
func (a *Archive) Heads(ctx context.Context, at time.Time, name func(device int64) string) (proof.Heads, error) {
	list, err := a.heads(ctx)
	if err != nil {
		return proof.Heads{}, err
	}
	out := proof.Heads{Form: proof.HeadsForm, At: at.UTC().Truncate(time.Second), Heads: []proof.Head{}}
	for _, h := range list {
		if h.last > 0 {
			out.Heads = append(out.Heads, proof.Head{Device: h.Device, Name: name(h.Device), Datastore: h.Datastore, Part: h.Part, Number: h.last, Chain: hex.EncodeToString(h.hash)})
		}
	}
	return out, nil
}

// Proof is what shows that a revision is a link of its chain.
func (a *Archive) Proof(ctx context.Context, r Revision, name string) (proof.Proof, error) {
	text, err := a.text(ctx, r, false)
	if err != nil {
		return proof.Proof{}, err
	}
	rows, err := a.query(ctx, `WHERE c.id = ? AND r.number >= ? ORDER BY r.number`, r.configuration, r.Number-1)
	if err != nil {
		return proof.Proof{}, err
	}
	out := proof.Proof{Form: proof.ProofForm, Name: name, Text: []byte(text)}
	for _, x := range rows {
		if x.Number == r.Number-1 {
			out.Before = hex.EncodeToString(x.chain)
			continue
		}
		out.Rows = append(out.Rows, x.row())
	}
	if len(out.Rows) == 0 || out.Rows[0].Number != r.Number {
		return out, errors.Join(ErrCorrupt, fmt.Errorf("the row of @%d is missing", r.Number))
	}
	return out, nil
}

// row is what of a revision the chain is made of.
func (r *Revision) row() proof.Row {
	return proof.Row{
		Device: r.Device, Number: r.Number, Arrived: r.Arrived.UnixMicro(), FirstSeen: r.FirstSeen.UnixMicro(), SameAs: r.SameAs,
		Datastore: r.Datastore, Part: r.Part, Dialect: r.Dialect, Origin: string(r.Origin), Suspect: r.Suspect, Author: r.Author,
		Hash: hex.EncodeToString(r.Hash[:]), FormHash: hex.EncodeToString(r.form[:]),
	}
}
