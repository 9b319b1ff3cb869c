package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/firmware"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
)

func exportC() *cobra.Command {
	var out string
	var sets []string
	var asJSON, force bool
	c := &cobra.Command{
		Use:   "c BENCH",
		Short: "Write C sources for the firmware: register values, transfers, devices, a ring",
		Long: `Gives portable C99 that calls no library: setup.c with the register writes in startup
order, each with its reason, and a small function that does them; transfers.h with the
settings of the transfers; devices.c with access to the registers of parts on SPI and
I2C over two small functions of yours; ring.c with a consumer for DMA rings that is
right for each order of half, full and idle events. They are whole files in a folder of their own:
--out writes them there, without it they are printed.`,
		Example: `  gavrix export c demo --out firmware
  gavrix export c demo --set links.upper-gauge.transfers.readings.length=128`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := loadBench(args[0], sets...)
			if err != nil {
				return err
			}
			files, err := firmware.Files(b)
			if err != nil {
				return err
			}
			if out == "" {
				if asJSON {
					texts := map[string]string{}
					for _, f := range files {
						texts[f.Name] = f.Text
					}
					return printJSON(texts)
				}
				for _, f := range files {
					fmt.Fprintf(stdout, "/* ---- %s ---- */\n%s\n", f.Name, f.Text)
				}
				return nil
			}
			if err := idle(cmd, "with --out", "json"); err != nil {
				return err
			}
			_, missing := os.Stat(out)
			made := errors.Is(missing, fs.ErrNotExist)
			if err := os.MkdirAll(out, 0o755); err != nil {
				return err
			}
			if !force {
				if err := ownFiles(out, files); err != nil {
					return err
				}
			}
			for _, f := range files {
				path := filepath.Join(out, f.Name)
				if err := regular.Replace(path, []byte(firmware.Marked(f.Text)), 0o644); err != nil {
					if made {
						_ = os.Remove(out) // where nothing is in it
					}
					return err
				}
				fmt.Fprintf(os.Stderr, "wrote %s\n", safe.Text(path))
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&out, "out", "", "folder to write into; it is made where it is missing")
	fl.StringArrayVar(&sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&force, "force", false, "with --out: replace files that were not made by this command, or were changed since")
	return c
}

// ownFiles refuses to replace what somebody else wrote, or changed by hand.
func ownFiles(folder string, files []firmware.File) error {
	var others []string
	for _, f := range files {
		old, err := regular.Read(filepath.Join(folder, f.Name), doc.MostText)
		if !errors.Is(err, fs.ErrNotExist) && (err != nil || !firmware.Unchanged(string(old))) {
			others = append(others, f.Name)
		}
	}
	if len(others) > 0 {
		return fmt.Errorf("%s has files that are not as this command made them: %s; nothing was written: take another folder, or --force to replace them", folder, strings.Join(others, ", "))
	}
	return nil
}
