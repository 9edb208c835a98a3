package rounds

import (
	"context"
	"strings"
	"sync"

	"vergekeep/core/dialect"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
)

// holder is the record that a serial number belongs to.
type holder struct {
	id        int64
	name, box string
}

// serials knows which record each box belongs to, so that one box is not filed
// under two names.
type serials struct {
	mu sync.Mutex
	by map[string]holder
}

// load reads all of them, at the start of a round.
func (s *serials) load(ctx context.Context, f *fleet.Fleet) error {
	list, err := f.List(ctx, selector.Selector{})
	if err != nil {
		return err
	}
	by := make(map[string]holder, len(list))
	for i := range list {
		d := &list[i]
		if d.Nameplate.Serial == "" || d.State == fleet.Retired {
			continue
		}
		for one := range strings.SplitSeq(d.Nameplate.Serial, dialect.Separator) {
			by[one] = holder{d.ID, d.Name, d.Box()}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.by = by
	return nil
}

// of is the record of the first of the serial numbers that is taken.
func (s *serials) of(serial string) (holder, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for one := range strings.SplitSeq(serial, dialect.Separator) {
		if h, ok := s.by[one]; ok {
			return h, true
		}
	}
	return holder{}, false
}

func (s *serials) set(serial string, h holder) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[string]holder{}
	}
	for one := range strings.SplitSeq(serial, dialect.Separator) {
		s.by[one] = h
	}
}
