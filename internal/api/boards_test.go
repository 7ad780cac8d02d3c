package api

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/store"
)

func TestABoardIsDrawnOnceForAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b boards
		var drawn atomic.Int32
		draw := func() ([]byte, error) {
			n := drawn.Add(1)
			time.Sleep(100 * time.Millisecond)
			return []byte{byte(n)}, nil
		}
		get := func() byte {
			text, err := b.get(t.Context(), draw)
			require.NoError(t, err)
			return text.text[0]
		}
		var all sync.WaitGroup
		for range 200 {
			all.Go(func() { require.EqualValues(t, 1, get()) })
		}
		all.Wait()
		time.Sleep(boardNew)
		require.EqualValues(t, 1, get(), "nobody waits for the next while this one is new enough")
		synctest.Wait()
		time.Sleep(100 * time.Millisecond)
		synctest.Wait()
		require.EqualValues(t, 2, get())
		time.Sleep(time.Hour)
		require.EqualValues(t, 3, get(), "an old one is not sent")
	})
}

// TestWhoChangesSomethingSeesIt: not a board from before, nor one that was begun
// before.
func TestWhoChangesSomethingSeesIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b boards
		var state atomic.Int32
		draw := func() ([]byte, error) {
			n := state.Load()
			time.Sleep(100 * time.Millisecond)
			return []byte{byte(n)}, nil
		}
		get := func() byte {
			text, err := b.get(t.Context(), draw)
			require.NoError(t, err)
			return text.text[0]
		}
		require.EqualValues(t, 0, get())
		state.Store(1)
		b.changed()
		require.EqualValues(t, 1, get())
		time.Sleep(time.Second)
		go get()
		synctest.Wait() // that one is being drawn
		state.Store(2)
		b.changed()
		require.EqualValues(t, 2, get())
		time.Sleep(boardNew / 2)
		require.EqualValues(t, 2, get(), "and the one that was begun before does not take its place")
	})
}

// TestAStrangerHasNoBoardDrawn: only what somebody who is in has changed makes it anew.
func TestAStrangerHasNoBoardDrawn(t *testing.T) {
	for _, x := range []struct {
		method, account string
		err             error
		drawn           int32
	}{
		{http.MethodPost, "ann", nil, 2},
		{http.MethodPost, "", nil, 1},
		{http.MethodPost, "ann", errors.New("refused"), 1},
		{http.MethodGet, "ann", nil, 1},
	} {
		synctest.Test(t, func(t *testing.T) {
			var b boards
			var drawn atomic.Int32
			get := func() {
				_, err := b.get(t.Context(), func() ([]byte, error) { drawn.Add(1); return []byte("x"), nil })
				require.NoError(t, err)
			}
			get()
			req := httptest.NewRequestWithContext(context.WithValue(t.Context(), whoKey{}, who{Session: store.Session{Account: x.account}}), x.method, "/", nil)
			_ = b.afresh(func(*echo.Context) error { return x.err })(echo.New().NewContext(req, httptest.NewRecorder()))
			get()
			synctest.Wait()
			require.Equal(t, x.drawn, drawn.Load(), "%+v", x)
		})
	}
}

func TestABoardThatCannotBeDrawn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b boards
		_, err := b.get(t.Context(), func() ([]byte, error) { panic("a shape that nobody thought of") })
		require.ErrorContains(t, err, "nobody thought of", "it takes nothing else along")
		gone, cancel := context.WithCancelCause(t.Context())
		cancel(errors.New("the client has gone"))
		_, err = b.get(gone, func() ([]byte, error) { time.Sleep(time.Minute); return []byte("x"), nil })
		require.ErrorContains(t, err, "has gone")
		text, err := b.get(t.Context(), nil) // joins the one that is being drawn
		require.NoError(t, err)
		require.Equal(t, "x", string(text.text))
	})
}
