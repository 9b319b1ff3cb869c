package main

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

type frameOptions struct {
	link, from, value, out         string
	frame, rate, other, otherRate  string
	sets                           []string
	inverted                       bool
	otherOversampling, columnsWide int
}

func drawFrame() *cobra.Command {
	o := &frameOptions{}
	c := &cobra.Command{
		Use:   "frame [BENCH]",
		Short: "Draw one character on the wire, as sender and receiver see it",
		Long: `Draws the bits of a character true to scale: the sender's, the levels, what the
receiver takes them for and where it samples. The ends come from a link of a
bench, or from --frame and --rate.`,
		Example: `  gavrix draw frame --frame 8E1 --rate 57600 --value 5A
  gavrix draw frame --frame 7E1 --rate 28800 --other 8N1 --value 34 --out wrong.svg
  gavrix draw frame demo --link lower-gauge --from device --value 34 --out frame.pdf`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			where, without := "without a bench", []string{"from", "link", "set"}
			if len(args) == 1 {
				where, without = "beside a bench, which says it", []string{"frame", "rate", "other", "other-rate", "oversampling"}
			}
			if err := idle(cmd, where, without...); err != nil {
				return err
			}
			s, err := o.scene(args)
			if err != nil {
				return err
			}
			return o.write(s)
		},
	}
	fl := c.Flags()
	fl.StringVar(&o.link, "link", "", "link of the bench")
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.StringVar(&o.from, "from", "device", "who sends: mcu or device")
	fl.StringVar(&o.value, "value", "34", "the character, in hex")
	fl.StringVar(&o.frame, "frame", "8N1", "frame of the sender")
	fl.StringVar(&o.rate, "rate", "", "rate of the sender")
	fl.StringVar(&o.other, "other", "", "frame of the receiver, where it differs")
	fl.StringVar(&o.otherRate, "other-rate", "", "rate of the receiver, where it differs")
	fl.IntVar(&o.otherOversampling, "oversampling", 16, "samples per bit of the receiver; 0 for an ideal one")
	fl.BoolVar(&o.inverted, "inverted", false, "draw the line behind an inverting driver")
	fl.StringVar(&o.out, "out", "", "file to write, .svg or .pdf; without it the picture is printed as text")
	fl.IntVar(&o.columnsWide, "columns", 110, "width of the text picture")
	return c
}

func (o *frameOptions) scene(args []string) (*scene.Scene, error) {
	v, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(o.value), "0x"), 16, 9)
	if err != nil {
		return nil, fmt.Errorf("--value %s: write a character in hex, 00 to 1FF", o.value)
	}
	if len(args) == 1 {
		b, err := loadBench(args[0], o.sets...)
		if err != nil {
			return nil, err
		}
		l, err := characterLink(b, o.link)
		if err != nil {
			return nil, err
		}
		if o.from != "mcu" && o.from != "device" {
			return nil, fmt.Errorf("--from %s: write mcu or device", o.from)
		}
		e := picture.Ends(l, o.from == "mcu")
		if err := e.SenderSet.Frame.Fits(uint16(v)); err != nil {
			return nil, fmt.Errorf("--value: %w", err)
		}
		e.Inverted = o.inverted
		return picture.Frame(e, uint16(v)), nil
	}
	return o.freeScene(uint16(v))
}

// characterLink gives the character link with a name, or the first one.
func characterLink(b *bench.Bench, name string) (*bench.UART, error) {
	if name != "" {
		l, err := linkNamed(b, name)
		if err != nil {
			return nil, err
		}
		u, ok := l.Model.(*bench.UART)
		if !ok {
			return nil, fmt.Errorf("%s is a %s link, which has no characters; draw timing draws it", name, l.Kind.Title)
		}
		return u, nil
	}
	for _, l := range b.Links {
		if u, ok := l.Model.(*bench.UART); ok {
			return u, nil
		}
	}
	return nil, errors.New("the bench has no character link; draw timing draws the others")
}

func (o *frameOptions) freeScene(v uint16) (*scene.Scene, error) {
	if o.rate == "" {
		return nil, errors.New("give a bench, or --frame and --rate")
	}
	end := func(frame, rate string) (s uart.Settings, err error) {
		if s.Frame, err = uart.ParseFrame(frame); err != nil {
			return s, err
		}
		s.Rate, err = quantity.ParseRate(rate)
		return s, err
	}
	sender, err := end(o.frame, o.rate)
	if err != nil {
		return nil, err
	}
	if err := sender.Frame.Fits(v); err != nil {
		return nil, fmt.Errorf("--value: %w", err)
	}
	other, otherRate := o.other, o.otherRate
	if other == "" {
		other = o.frame
	}
	if otherRate == "" {
		otherRate = o.rate
	}
	receiver, err := end(other, otherRate)
	if err != nil {
		return nil, err
	}
	if n := o.otherOversampling; n != 0 && n != 4 && n != 8 && n != 16 {
		return nil, fmt.Errorf("--oversampling %d: write 16, 8, 4 or 0", n)
	}
	receiver.Oversampling = o.otherOversampling
	return picture.Frame(picture.FrameEnds{
		Sender: "sender", Receiver: "receiver", SenderSet: sender, ReceiverSet: receiver,
		SenderRate: sender.Rate, ReceiverRate: receiver.Rate, Inverted: o.inverted,
	}, v), nil
}
