// Package daemon is the command line of plumbd.
//
//	daemon.go  the command, its exit status, its log
//	backup.go  plumbd backup, plumbd restore
//	serve.go   plumbd serve, plumbd password, plumbd code
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"plumbbob/internal/version"
)

// The exit statuses of plumbd.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
)

// A UsageError marks what was asked for wrongly.
type UsageError struct{ error }

// Wrong returns a UsageError.
func Wrong(format string, args ...any) UsageError { return UsageError{fmt.Errorf(format, args...)} }

// Main runs plumbd and returns its exit status.
func Main(args []string) int { return Run(command(), args) }

// Run runs a program until it is done or told to stop, and returns its exit status.
func Run(root *cobra.Command, args []string) int {
	ctx, stop := signals()
	defer stop()
	root.SilenceErrors, root.SilenceUsage, root.Version = true, true, version.This().String()
	root.CompletionOptions = cobra.CompletionOptions{HiddenDefaultCmd: true}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return Wrong("%w: %s --help shows what there is", err, c.CommandPath())
	})
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	fmt.Fprintln(os.Stderr, root.Name()+": "+err.Error())
	if usage := (UsageError{}); errors.As(err, &usage) || strings.HasPrefix(err.Error(), "unknown ") {
		return exitUsage
	}
	return exitFailed
}

// signals returns a context that ends at the first signal to stop; Hurry of it is closed
// at the second.
func signals() (context.Context, func()) {
	hurry := make(chan struct{})
	ctx, cancel := context.WithCancel(context.WithValue(context.Background(), hurryKey{}, (<-chan struct{})(hurry)))
	got := make(chan os.Signal, 2)
	signal.Notify(got, os.Interrupt, syscall.SIGTERM)
	go func() {
		if _, ok := <-got; ok {
			cancel()
		}
		if _, ok := <-got; ok {
			close(hurry)
		}
	}()
	return ctx, func() {
		signal.Stop(got)
		close(got)
		cancel()
	}
}

type hurryKey struct{}

// Hurry is closed when a program that is stopping is told so again.
func Hurry(ctx context.Context) <-chan struct{} {
	c, _ := ctx.Value(hurryKey{}).(<-chan struct{})
	return c
}

func command() *cobra.Command {
	root := &cobra.Command{
		Use:   "plumbd",
		Short: "The service of Plumb Bob: watches gear, and switches its power safely",
		Long: `plumbd watches servers and network gear through out-of-band paths, works out
whether a silent device is hung, without power or merely cut off, and switches
power safely. People use it through the console, which it serves, and through
the client plumb.`,
	}
	root.AddCommand(serveCommand(), passwordCommand(), codeCommand(), backupCommand(), restoreCommand())
	return root
}

// exactly is cobra.ExactArgs with an error that says what is missing.
func exactly(n int, usage string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return Wrong("write: %s", usage)
		}
		return nil
	}
}

// NewLog returns a log in lines that people can read.
func NewLog(w io.Writer, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, Wrong("--log: %q is not debug, info, warn or error", level)
	}
	return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: l})), nil
}
