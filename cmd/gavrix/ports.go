package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/link/tty"
	"gavrix.org/gavrix/core/safe"
)

func portsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "ports",
		Short: "List the serial ports of this computer",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			list, err := tty.Ports()
			if err != nil {
				return err
			}
			if asJSON {
				if list == nil {
					list = []tty.Found{}
				}
				return printJSON(list)
			}
			for _, p := range list {
				fmt.Fprintf(stdout, "%-24s %s %s\n", safe.Text(p.Path), safe.Text(p.What), safe.Text(p.Serial))
			}
			if len(list) == 0 {
				fmt.Fprintln(stdout, "no serial ports; the simulated bench needs none: gavrix demo")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
