package client

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// A Terminal is what somebody sits at: the one that this program was started in, or one
// that only a stream of characters leads to.
type Terminal interface {
	// Size is 0 by 0 where it is not known.
	Size() (columns, rows int)
	// Ask waits for one line; hidden has what is typed not shown. It returns errGivenUp
	// when ctx ends before.
	Ask(ctx context.Context, prompt string, hidden bool) (string, error)
	// Raw has every key read by Keys, and what is written shown as it is, until restore.
	Raw() (restore func(), err error)
	// Keys waits for keys, also Ctrl-C, while the terminal is raw. Nothing is read once
	// ctx has ended: what is typed then is for whoever reads next.
	Keys(ctx context.Context, p []byte) (int, error)
	// Resized has f called when the size has changed.
	Resized(f func()) (stop func())
}

// own is the terminal that this program was started in.
type own struct {
	file *os.File
	in   *bufio.Reader // of file
	err  io.Writer     // where prompts go
}

// Size implements Terminal.
func (t *own) Size() (columns, rows int) {
	columns, rows, err := term.GetSize(int(t.file.Fd()))
	if err != nil {
		return 0, 0
	}
	return columns, rows
}

// Pixels is the same in pixels, 0 by 0 where the terminal does not say.
func (t *own) Pixels() (w, h int) {
	size, err := unix.IoctlGetWinsize(int(t.file.Fd()), unix.TIOCGWINSZ)
	if err != nil {
		return 0, 0
	}
	return int(size.Xpixel), int(size.Ypixel)
}

// Ask implements Terminal.
func (t *own) Ask(ctx context.Context, prompt string, hidden bool) (string, error) {
	if !hidden {
		fmt.Fprint(t.err, prompt)
		return answered(ctx, func() (string, error) { return readLine(t.in) })
	}
	fd := int(t.file.Fd())
	shown, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	fmt.Fprint(t.err, prompt)
	text, err := answered(ctx, func() (string, error) {
		b, err := term.ReadPassword(fd)
		return string(b), err
	})
	if errors.Is(err, errGivenUp) {
		_ = term.Restore(fd, shown) // whoever types next sees it again
		return "", err
	}
	fmt.Fprintln(t.err)
	return text, err
}

// readLine reads an answer.
func readLine(in *bufio.Reader) (string, error) {
	text, err := in.ReadString('\n')
	if err != nil && text == "" {
		return "", fail(ExitUsage, "nothing was answered")
	}
	return strings.TrimRight(text, "\r\n"), nil
}

// Raw implements Terminal.
func (t *own) Raw() (restore func(), err error) {
	fd := int(t.file.Fd())
	was, err := term.MakeRaw(fd)
	if err != nil {
		return nil, fail(ExitFailed, "the terminal cannot be used: %s", err)
	}
	return func() { _ = term.Restore(fd, was) }, nil
}

// keyPoll is how long is waited for a key before it is seen whether anybody still wants one.
const keyPoll = 100 // ms

// Keys implements Terminal.
func (t *own) Keys(ctx context.Context, p []byte) (int, error) {
	for ctx.Err() == nil {
		ready := []unix.PollFd{{Fd: int32(t.file.Fd()), Events: unix.POLLIN}}
		if n, err := unix.Poll(ready, keyPoll); n == 0 || err == unix.EINTR { //nolint:errorlint // it is bare
			continue
		}
		return t.file.Read(p)
	}
	return 0, context.Cause(ctx)
}

// Resized implements Terminal.
func (t *own) Resized(f func()) (stop func()) {
	sizes := make(chan os.Signal, 1)
	signal.Notify(sizes, syscall.SIGWINCH)
	go func() {
		for range sizes {
			f()
		}
	}()
	return func() {
		signal.Stop(sizes)
		close(sizes)
	}
}
