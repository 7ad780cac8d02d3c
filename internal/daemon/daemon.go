// Package daemon is the command line of plumbd.
//
//	daemon.go   the command, its exit status, its log
//	serve.go    plumbd serve, plumbd password
//	lab.go      plumbd lab and its faults
//	demo.go     plumbd demo
//	history.go  what the demo has been through before it starts
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
)

// The exit statuses of plumbd.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
)

// usageError marks what was asked for wrongly.
type usageError struct{ error }

// Main runs plumbd and returns its exit status.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := command()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	fmt.Fprintln(os.Stderr, "plumbd: "+err.Error())
	if usage := (usageError{}); errors.As(err, &usage) || strings.HasPrefix(err.Error(), "unknown ") {
		return exitUsage
	}
	return exitFailed
}

func command() *cobra.Command {
	root := &cobra.Command{
		Use:   "plumbd",
		Short: "The service of Plumb Bob: watches gear, and switches its power safely",
		Long: `plumbd watches servers and network gear through out-of-band paths, works out
whether a silent device is hung, without power or merely cut off, and switches
power safely. People use it through the console, which it serves, and through
the client plumb.`,
		SilenceErrors: true, SilenceUsage: true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w: %s --help shows what there is", err, c.CommandPath())}
	})
	root.AddCommand(serveCommand(), passwordCommand(), labCommand(), demoCommand())
	return root
}

// exactly is cobra.ExactArgs with an error that says what is missing.
func exactly(n int, usage string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usageError{fmt.Errorf("write: %s", usage)}
		}
		return nil
	}
}

// newLog returns a log in lines that people can read.
func newLog(w io.Writer, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usageError{fmt.Errorf("--log: %q is not debug, info, warn or error", level)}
	}
	return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: l})), nil
}
