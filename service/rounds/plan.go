package rounds

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"vergekeep/service/fleet"
)

// errPlan says that the plan of a round in the database makes no sense.
var errPlan = errors.New("the plan of a round is damaged")

// encodePlan is the ids of devices, ascending, as differences in the variable
// length form of encoding/binary: a byte or two each.
func encodePlan(devices []fleet.Device) []byte {
	plan := make([]byte, 0, 2*len(devices))
	last := int64(0)
	for _, id := range slices.Sorted(slices.Values(ids(devices))) {
		plan = binary.AppendUvarint(plan, uint64(id-last))
		last = id
	}
	return plan
}

func decodePlan(plan []byte) ([]int64, error) {
	var ids []int64
	last := int64(0)
	for len(plan) > 0 {
		step, n := binary.Uvarint(plan)
		if n <= 0 || step > 1<<62-uint64(last) {
			return nil, errPlan
		}
		last += int64(step)
		ids = append(ids, last)
		plan = plan[n:]
	}
	return ids, nil
}

// waiting is the devices of a running round that have not been visited yet.
func (s *Service) waiting(ctx context.Context, round int64) ([]int64, error) {
	var plan []byte
	err := s.db.QueryRow(ctx, `SELECT plan FROM rounds WHERE id = ?`, round).Scan(&plan)
	if errors.Is(err, sql.ErrNoRows) || err == nil && plan == nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	ids, err := decodePlan(plan)
	if err != nil {
		return nil, fmt.Errorf("%w: round %d", err, round)
	}
	rows, err := s.db.Query(ctx, `SELECT device_id FROM visits WHERE id >= (SELECT first_visit FROM rounds WHERE id = ?1) AND round_id = ?1`, round)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	visited := map[int64]bool{}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		visited[id] = true
	}
	return slices.DeleteFunc(ids, func(id int64) bool { return visited[id] }), rows.Err()
}

func ids(devices []fleet.Device) []int64 {
	list := make([]int64, len(devices))
	for i, d := range devices {
		list[i] = d.ID
	}
	return list
}

// devices is the records with those ids, in the order of the fleet.
func (s *Service) devices(ctx context.Context, ids []int64) ([]fleet.Device, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	wanted := map[int64]bool{}
	for _, id := range ids {
		wanted[id] = true
	}
	all, err := s.fleet.Pick(ctx, "")
	return slices.DeleteFunc(all, func(d fleet.Device) bool { return !wanted[d.ID] }), err
}
