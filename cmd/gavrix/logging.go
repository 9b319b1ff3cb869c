package main

import (
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// logging is where the program writes down what it did: what it opened, refused and lost,
// and how long that took.
type logging struct {
	file, level string
	to          *os.File
	began       time.Time
	lost        error // the first that could not be written
}

// Write implements io.Writer.
func (l *logging) Write(p []byte) (int, error) {
	n, err := l.to.Write(p)
	if err != nil && l.lost == nil {
		l.lost = err
	}
	return n, err
}

func (l *logging) flags(fl *pflag.FlagSet) {
	fl.StringVar(&l.file, "log", "", "write down what was opened, refused and lost to the end of this file")
	fl.StringVar(&l.level, "log-level", "info", "how much: debug, info, warn or error")
}

// start opens the log. Without one nothing is written.
func (l *logging) start(cmd *cobra.Command, args []string) error {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	var level slog.Level
	if err := level.UnmarshalText([]byte(l.level)); err != nil {
		return fmt.Errorf("--log-level %s: write debug, info, warn or error", l.level)
	}
	if l.file == "" {
		return nil
	}
	f, err := os.OpenFile(l.file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the log can't be written: %w", err)
	}
	l.to, l.began = f, time.Now()
	slog.SetDefault(slog.New(slog.NewTextHandler(l, &slog.HandlerOptions{Level: level})))
	slog.Info("begun", "command", cmd.CommandPath(), "args", strings.Join(args, " "), "version", versionText())
	return nil
}

// stop writes how it ended; the error says that something could not be written.
func (l *logging) stop(status int, err error) error {
	if l.to == nil {
		return nil
	}
	if err != nil && status == cannot {
		slog.Error("ended", "status", status, "why", err.Error(), "took", time.Since(l.began))
	} else {
		slog.Info("ended", "status", status, "took", time.Since(l.began))
	}
	if e := l.to.Close(); l.lost == nil {
		l.lost = e
	}
	if l.lost != nil {
		return fmt.Errorf("the log is not complete: %w", l.lost)
	}
	return nil
}
