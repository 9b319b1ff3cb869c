package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/draw/pdf"
	"gavrix.org/gavrix/draw/svg"
)

func drawCommand() *cobra.Command {
	return group("draw", "Draw pictures to SVG, PDF or text", drawFrame(), drawWave(), drawPlan(), drawTiming(), drawStartup(), drawRegisters(), drawTransfer(), drawPlot())
}

// columns checks the width of a text picture.
func columns(n int) error {
	if n < 20 || n > 2000 {
		return fmt.Errorf("--columns %d: give 20 to 2000", n)
	}
	return nil
}

func (o *frameOptions) write(s *scene.Scene) error {
	if err := columns(o.columnsWide); err != nil {
		return err
	}
	var b bytes.Buffer
	switch ext := strings.ToLower(filepath.Ext(o.out)); {
	case o.out == "":
		fmt.Fprint(stdout, sceneText(s, o.columnsWide))
		return nil
	case ext == ".svg":
		if err := svg.Write(&b, s); err != nil {
			return err
		}
	case ext == ".pdf":
		if err := pdf.Write(&b, s); err != nil {
			return err
		}
	default:
		return fmt.Errorf("--out %s: the name must end in .svg or .pdf", o.out)
	}
	if err := regular.Replace(o.out, b.Bytes(), 0o644); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "wrote %s\n", safe.Text(o.out))
	return nil
}

func sceneText(s *scene.Scene, columns int) string {
	columns = min(max(columns, 60), 400)
	g := cells.New(columns, cells.SceneHeight(s, columns))
	cells.Scene(g.All(), s)
	out := safe.Text(s.Title) + "\n\n" + g.String()
	for _, n := range s.Notes {
		out += safe.Text(n) + "\n"
	}
	return out
}
