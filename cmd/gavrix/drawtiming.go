package main

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/scene"
)

// pictureOptions are what pictures of a bench have in common.
type pictureOptions struct {
	out     string
	columns int
	sets    []string
}

func (o *pictureOptions) flags(c *cobra.Command) {
	fl := c.Flags()
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.StringVar(&o.out, "out", "", "file to write, .svg or .pdf; without it the picture is printed as text")
	fl.IntVar(&o.columns, "columns", 110, "width of the text picture")
}

func (o *pictureOptions) write(s *scene.Scene) error {
	f := &frameOptions{out: o.out, columnsWide: o.columns}
	return f.write(s)
}

func drawTiming() *cobra.Command {
	o := &pictureOptions{}
	var device string
	var data, toDevice bool
	c := &cobra.Command{
		Use:   "timing BENCH LINK",
		Short: "Draw the timing of a link: frame, valid window, clock period or bit",
		Long: `Draws what the Timing view shows of a link, true to scale: of uart a character with
both ends' bits and samples, of spi when data change and are sampled with a device, of
i2c a period of the clock against its class, of can one bit of every node, of a pulse
line a 0 and a 1 with the limits of their times.`,
		Example: `  gavrix draw timing demo gate --device valve-bank
  gavrix draw timing demo winch --data --out winch.pdf`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := loadBench(args[0], o.sets...)
			if err != nil {
				return err
			}
			l, err := linkNamed(b, args[1])
			if err != nil {
				return err
			}
			dev, err := deviceNamed(l, device)
			if err != nil {
				return err
			}
			look := picture.Look{Device: dev, Data: data, FromMCU: toDevice, Value: '4'}
			s := picture.Timing(l, look)
			if s == nil {
				return fmt.Errorf("--data: %s has no data phase of its own", l.Name)
			}
			for flag, without := range map[string]picture.Look{"data": {Device: dev, FromMCU: toDevice, Value: '4'}, "to-device": {Device: dev, Data: data, Value: '4'}} {
				if look != without && reflect.DeepEqual(s, picture.Timing(l, without)) {
					return idle(cmd, fmt.Sprintf("on %s, a %s link", l.Name, l.Kind.Title), flag)
				}
			}
			return o.write(s)
		},
	}
	o.flags(c)
	c.Flags().StringVar(&device, "device", "", "the device on an SPI bus; without it the first")
	c.Flags().BoolVar(&data, "data", false, "of can: the data phase")
	c.Flags().BoolVar(&toDevice, "to-device", false, "of UART: the MCU sends")
	return c
}

func deviceNamed(l *bench.Link, name string) (int, error) {
	if name == "" {
		return 0, nil
	}
	if i := slices.Index(l.Devices(), name); i >= 0 {
		return i, nil
	}
	return 0, fmt.Errorf("--device: %s has no device %q; it has %s", l.Name, name, strings.Join(l.Devices(), ", "))
}

func drawStartup() *cobra.Command {
	o := &pictureOptions{}
	c := &cobra.Command{
		Use:     "startup BENCH LINK",
		Short:   "Draw the startup steps of a link's peripheral, with what became of each",
		Example: `  gavrix draw startup demo upper-gauge --out startup.pdf`,
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := loadBench(args[0], o.sets...)
			if err != nil {
				return err
			}
			l, err := linkNamed(b, args[1])
			if err != nil {
				return err
			}
			chain, err := l.Chain()
			if err != nil {
				return err
			}
			steps := l.Steps(chain)
			return o.write(picture.Startup(l, picture.Chain(chain.Judge(steps), steps), "the steps that the firmware does"))
		},
	}
	o.flags(c)
	return c
}

func drawRegisters() *cobra.Command {
	o := &pictureOptions{}
	c := &cobra.Command{
		Use:     "registers BENCH",
		Short:   "Draw the control registers that a bench's settings want, taken apart",
		Example: `  gavrix draw registers demo --out registers.pdf`,
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := loadBench(args[0], o.sets...)
			if err != nil {
				return err
			}
			words, err := b.Words()
			if err != nil {
				return err
			}
			if len(words) == 0 {
				return fmt.Errorf("%s describes no registers", args[0])
			}
			return o.write(picture.Registers(b.MCU.Name+": control registers", words))
		},
	}
	o.flags(c)
	return c
}
