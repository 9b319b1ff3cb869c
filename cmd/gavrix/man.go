package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

func manCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "man FOLDER",
		Short:   "Write the manual pages, one for each command",
		Example: "  gavrix man ~/.local/share/man/man1 && man gavrix-calc-baud",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fmt.Errorf("%s can't be made: %w", args[0], err)
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			when := time.Date(2026, time.January, 1, 0, 0, 0, 0, time.UTC) // the same text makes the same pages
			header := &doc.GenManHeader{Title: "GAVRIX", Section: "1", Source: "Gavrix", Manual: "Gavrix", Date: &when}
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return fmt.Errorf("the pages are not written: %w", err)
			}
			return nil
		},
	}
}
