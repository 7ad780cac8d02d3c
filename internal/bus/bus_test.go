package bus

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEverybodyHearsInOrder(t *testing.T) {
	var topic Topic[int]
	topic.Publish(1) // nobody listens
	var first, second []int
	leave := topic.Listen(func(v int) { first = append(first, v) })
	topic.Listen(func(v int) {
		second = append(second, v)
		if v == 2 {
			leave() // in the middle of being told
		}
	})
	few, done := topic.Queue(1)
	for v := range 4 {
		topic.Publish(v)
	}
	done()
	topic.Publish(4)
	require.Equal(t, []int{0, 1, 2}, first)
	require.Equal(t, []int{0, 1, 2, 3, 4}, second)
	require.Equal(t, 0, <-few, "what does not fit is dropped")
	require.Empty(t, few)
}

func TestManyPublishWhileOthersComeAndGo(t *testing.T) {
	var topic Topic[int]
	var work sync.WaitGroup
	for range 4 {
		work.Go(func() {
			for v := range 200 {
				topic.Publish(v)
			}
		})
		work.Go(func() {
			for range 200 {
				_, leave := topic.Queue(8)
				leave()
			}
		})
	}
	work.Wait()
	require.Empty(t, topic.listeners)
}
