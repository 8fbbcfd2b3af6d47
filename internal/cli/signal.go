package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	"sternledger/internal/folder"
)

// stopped says that the program was told to end.
type stopped struct{ signal os.Signal }

func (s *stopped) Error() string {
	return "stopped by " + s.name() + "; what was not finished is undone"
}

func (s *stopped) name() string {
	return map[os.Signal]string{os.Interrupt: "Ctrl-C", syscall.SIGTERM: "a request to end", syscall.SIGHUP: "the terminal's end"}[s.signal]
}

// status is what a shell expects of a program that such a signal ended.
func (s *stopped) status() int {
	if s.signal == os.Interrupt {
		return exitInterrupted
	}
	return exitTerminated
}

// grace is how long work that was told to end may take to do so by itself.
const grace = 3 * time.Second

// untilStopped returns a context that ends when the program is told to. What
// does not end by itself within a grace, or until it is told again, is ended:
// drafts are removed, and what the ledger was about to take it never took.
func untilStopped(errs io.Writer) (context.Context, func()) {
	ctx, end := context.WithCancelCause(context.Background())
	told := make(chan os.Signal, 2)
	signal.Notify(told, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	done := make(chan struct{})
	go func() {
		select {
		case <-done:
			return
		case s := <-told:
			why := &stopped{s}
			end(why)
			select {
			case <-done:
				return
			case <-told:
			case <-time.After(grace):
			}
			folder.Abandon()
			fmt.Fprintln(errs, "sternledger: "+why.Error())
			os.Exit(why.status())
		}
	}()
	return ctx, func() {
		signal.Stop(told)
		close(done)
		end(nil)
	}
}

// stoppedBy returns why a run ended that was told to; nil where it ended by
// itself.
func stoppedBy(ctx context.Context) *stopped {
	var s *stopped
	if errors.As(context.Cause(ctx), &s) {
		return s
	}
	return nil
}
