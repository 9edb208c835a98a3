package archive

import (
	"container/list"
	"sync"
)

// kept remembers texts, those that were asked for last, up to so many bytes.
type kept struct {
	mu    sync.Mutex
	room  int
	texts map[int64]*list.Element
	order list.List // of keptText, the one asked for last in front
}

type keptText struct {
	id   int64
	text string
}

func (k *kept) get(id int64) (string, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	e, ok := k.texts[id]
	if !ok {
		return "", false
	}
	k.order.MoveToFront(e)
	return e.Value.(keptText).text, true
}

func (k *kept) put(id int64, text string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, ok := k.texts[id]; ok || len(text) > maxKept/8 {
		return
	}
	if k.texts == nil {
		k.texts, k.room = map[int64]*list.Element{}, maxKept
	}
	k.texts[id] = k.order.PushFront(keptText{id, text})
	for k.room -= len(text); k.room < 0; {
		oldest := k.order.Back()
		t := k.order.Remove(oldest).(keptText)
		delete(k.texts, t.id)
		k.room += len(t.text)
	}
}

// forget drops texts that are no longer in the archive.
func (k *kept) forget(ids ...int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, id := range ids {
		if e, ok := k.texts[id]; ok {
			k.room += len(e.Value.(keptText).text)
			k.order.Remove(e)
			delete(k.texts, id)
		}
	}
}
