package archive_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/archive"
	"vergekeep/core/ref"
	"vergekeep/store"
)

func TestTheLastBlessingIsInForce(t *testing.T) {
	db, a, k := open(t)
	var list []archive.Revision
	for i := range 3 {
		text := fmt.Sprintf("lan %d\n", i)
		r, _ := put(t, db, a, k, text, text, start.Add(time.Duration(i)*time.Hour))
		list = append(list, r)
	}
	resolve := func() (archive.Revision, error) {
		return a.Resolve(t.Context(), k, ref.Point{Kind: ref.Baseline}, start.Add(day))
	}
	_, err := resolve()
	require.ErrorIs(t, err, archive.ErrNone)
	bless := func(f func(*store.Tx, archive.Revision, string, string, time.Time) error, r archive.Revision) {
		t.Helper()
		require.NoError(t, db.Write(t.Context(), func(tx *store.Tx) error { return f(tx, r, "agreed", "lead", start.Add(day)) }))
	}
	bless(a.Bless, list[1])
	bless(a.Bless, list[0])
	r, err := resolve()
	require.NoError(t, err)
	assert.Equal(t, 1, r.Number)
	bless(a.Bless, list[1])
	all, err := a.Baselines(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, archive.Blessing{Revision: all[0].Revision, Remark: "agreed", Account: "lead", At: start.Add(day)}, all[0])
	assert.Equal(t, 2, all[0].Revision.Number)
	bless(a.Unbless, list[1])
	_, err = resolve()
	require.ErrorIs(t, err, archive.ErrNone)
	all, err = a.Baselines(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = a.Baseline(t.Context(), archive.Key{Device: 99})
	require.ErrorIs(t, err, archive.ErrNone)
}
