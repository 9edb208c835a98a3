package events

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEachListenerHearsAllInOrder(t *testing.T) {
	var b Bus
	b.Publish("before anybody listens", nil)
	first, second := b.Subscribe(), b.Subscribe()
	for i := range 100 {
		b.Publish("visit-ended", i)
	}
	for _, s := range []*Subscription{first, second} {
		for i := range 100 {
			e := <-s.C
			assert.Equal(t, i, e.Data)
			assert.Equal(t, int64(i+2), e.ID, "numbers count what was missed")
		}
		s.Close()
		_, open := <-s.C
		assert.False(t, open)
		s.Close() // twice does no harm
	}
	b.Publish("after", nil)
}

func TestWhoDoesNotKeepUpIsLeftBehindAndHoldsUpNobody(t *testing.T) {
	var b Bus
	slow, quick := b.Subscribe(), b.Subscribe()
	defer quick.Close()
	heard := make(chan int)
	go func() {
		n := 0
		for range quick.C {
			if n++; n == 3000 {
				break
			}
		}
		heard <- n
	}()
	for i := range 3000 {
		b.Publish("visit-ended", i)
		if i%500 == 0 { // the quick one gets to run
			for len(quick.C) > 0 {
			}
		}
	}
	n := 0
	for range slow.C { // it ends: the subscription is closed
		n++
	}
	assert.Equal(t, cap(slow.c), n)
	require.Equal(t, 3000, <-heard)
	slow.Close()
}

func TestALoopRunsWhenSomethingOfItsKindHappens(t *testing.T) {
	var b Bus
	ctx, cancel := context.WithCancel(t.Context())
	wake, ran, ended := make(chan struct{}), make(chan struct{}), make(chan struct{})
	go func() {
		b.Loop(ctx, time.Hour, wake, []string{"change"}, func() { ran <- struct{}{} })
		close(ended)
	}()
	<-ran // at once
	for range 100 {
		b.Publish("visit-ended", nil)
	}
	b.Publish("change", nil)
	<-ran
	select {
	case <-ran:
		assert.Fail(t, "it ran for an event that it does not care for")
	case wake <- struct{}{}: // it only listens to this while it waits
	}
	<-ran
	// Who was too slow for the events runs once more, and hears what comes then.
	wake <- struct{}{}
	for range 3000 {
		b.Publish("visit-ended", nil)
	}
	<-ran
	<-ran
	wake <- struct{}{} // it has subscribed again
	<-ran
	b.Publish("change", nil)
	<-ran
	cancel()
	<-ended
	assert.Empty(t, b.subs)
}

func TestManyComeAndGo(t *testing.T) {
	var b Bus
	var wg sync.WaitGroup
	for range 50 {
		wg.Go(func() {
			s := b.Subscribe()
			b.Publish("x", nil)
			<-s.C
			s.Close()
		})
	}
	wg.Wait()
	assert.Empty(t, b.subs)
}
