package rounds

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vergekeep/service/fleet"
)

func TestAPlanComesBackInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ids := rapid.SliceOfNDistinct(rapid.Int64Range(1, 1<<40), 0, 50, rapid.ID[int64]).Draw(t, "ids")
		var devices []fleet.Device
		for _, id := range ids {
			devices = append(devices, fleet.Device{ID: id})
		}
		got, err := decodePlan(encodePlan(devices))
		if err != nil || !slices.Equal(got, slices.Sorted(slices.Values(ids))) {
			t.Fatalf("%v became %v: %v", ids, got, err)
		}
	})
}

func TestAPlanOfNeighboursIsSmall(t *testing.T) {
	var devices []fleet.Device
	for i := range 10_000 {
		devices = append(devices, fleet.Device{ID: int64(i + 1)})
	}
	assert.Len(t, encodePlan(devices), 10_000)
}

func FuzzDecodePlan(f *testing.F) {
	f.Add([]byte{1, 0x80})
	f.Fuzz(func(t *testing.T, plan []byte) {
		ids, err := decodePlan(plan)
		if err == nil {
			require.True(t, slices.IsSorted(ids))
		}
	})
}
