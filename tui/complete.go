package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/sahilm/fuzzy"

	"gavrix.org/gavrix/draw/cells"
)

// offer is something that the command line may become.
type offer struct {
	text string // the whole line
	help string
}

// mostOffers is how many are listed above the line.
const mostOffers = 12

// offers gives what the line that is typed may become, the likeliest first.
func (a *App) offers() []offer {
	text := a.command.Text()
	name, arg, hasArg := strings.Cut(text, " ")
	var all []offer
	seen := map[string]bool{}
	if !hasArg {
		for _, c := range a.allCommands() {
			if seen[c.Name] {
				continue
			}
			seen[c.Name] = true
			line := c.Name
			if c.Args != "" {
				line += " "
			}
			help := c.Help
			if c.Args != "" {
				help = c.Args + "   " + help
			}
			all = append(all, offer{line, help})
		}
		slices.SortStableFunc(all, func(x, y offer) int { return strings.Compare(x.text, y.text) })
		return likely(all, text)
	}
	for _, c := range a.allCommands() {
		if c.Name != name {
			continue
		}
		if c.Complete == nil {
			return []offer{{text, c.Args + "   " + c.Help}}
		}
		for _, w := range c.Complete(arg) {
			help := ""
			if l := a.Link(); l != nil && strings.HasPrefix(w, "links.") {
				_, help = l.Choices(strings.TrimSpace(w))
			}
			all = append(all, offer{name + " " + w, help})
		}
		break
	}
	return likely(all, text)
}

// likely puts what begins as typed in front of what has the letters somewhere in order.
func likely(all []offer, text string) []offer {
	if text == "" {
		return all
	}
	var out []offer
	var rest []offer
	var texts []string
	for _, o := range all {
		if strings.HasPrefix(strings.ToLower(o.text), strings.ToLower(text)) {
			out = append(out, o)
			continue
		}
		rest, texts = append(rest, o), append(texts, o.text)
	}
	for _, m := range fuzzy.Find(text, texts) {
		out = append(out, rest[m.Index])
	}
	return out
}

// commandKey edits the command line; up and down choose among what it may become.
func (a *App) commandKey(k tea.KeyPressMsg) tea.Cmd {
	offers := a.offers()
	switch k.String() {
	case "esc":
		a.command = nil
	case "enter":
		text := strings.TrimSpace(a.command.Text())
		if a.picked >= 0 && a.picked < len(offers) {
			picked := offers[a.picked].text
			if strings.HasSuffix(picked, " ") {
				a.command.Set(picked) // it wants more
				a.picked = -1
				return nil
			}
			text = picked
		}
		a.command = nil
		return a.runCommand(text)
	case "tab":
		a.completes(offers)
	case "down":
		a.picked = min(a.picked+1, min(len(offers), mostOffers)-1)
	case "up":
		a.picked = max(a.picked-1, -1)
	default:
		a.picked = -1
		a.command.Key(k)
	}
	return nil
}

// completes takes over the offer that was chosen, else what those that begin as typed have
// in common, else the likeliest.
func (a *App) completes(offers []offer) {
	if len(offers) == 0 {
		return
	}
	if a.picked >= 0 && a.picked < len(offers) {
		a.command.Set(offers[a.picked].text)
		a.picked = -1
		return
	}
	text := a.command.Text()
	var begin []string
	for _, o := range offers {
		if strings.HasPrefix(o.text, text) {
			begin = append(begin, o.text)
		}
	}
	if len(begin) == 0 {
		a.command.Set(offers[0].text)
		return
	}
	a.command.Set(commonPrefix(begin))
}

// drawOffers lists above the command line what it may become.
func (a *App) drawOffers(body cells.Area) {
	offers := a.offers()
	more := len(offers) - mostOffers
	n := min(len(offers), mostOffers, body.H-1)
	if n <= 0 {
		return
	}
	width := 0
	for _, o := range offers[:n] {
		width = max(width, cells.Width(o.text))
	}
	width = min(width, body.W/2)
	rows := n
	if more > 0 {
		rows++
	}
	box := body.Part(0, body.H-rows, body.W, rows)
	for y := range rows {
		for x := range box.W {
			box.Put(x, y, cells.Plain, ' ')
		}
	}
	for i, o := range offers[:n] {
		box.Part(1, i, width, 1).Text(0, 0, cells.Strong, o.text)
		if room := box.W - width - 4; room > 0 {
			box.Part(width+3, i, room, 1).Text(0, 0, cells.Quiet, o.help)
		}
		if i == a.picked {
			box.Mark(i)
		}
	}
	if more > 0 {
		box.Text(1, n, cells.Quiet, fmt.Sprintf("%d more; type on to narrow them down", more))
	}
}

func (a *App) linkNames(string) []string {
	var out []string
	for _, l := range a.snap.Meta().Links {
		out = append(out, l.Name)
	}
	return out
}

func (a *App) viewNames(string) []string {
	var out []string
	for _, v := range a.views {
		out = append(out, strings.ToLower(v.view.Name()))
	}
	return out
}

// devices are those of the selected link.
func (a *App) devices(string) []string {
	if l := a.captured(); l != nil {
		return devicesOf(l)
	}
	return nil
}

// lineNames are the lines of the selected link.
func (a *App) lineNames(string) []string {
	if l := a.captured(); l != nil {
		return slices.Clone(l.Roles)
	}
	return nil
}

// ends are what a wire can be cut at.
func (a *App) ends(arg string) []string {
	return append(append([]string{"mcu"}, a.devices(arg)...), a.lineNames(arg)...)
}

// settings are the paths of the selected link's settings, and behind one its values.
func (a *App) settings(arg string) []string {
	path, _, has := strings.Cut(arg, " ")
	if !has {
		var out []string
		for _, p := range a.settable() {
			out = append(out, p+" ")
		}
		return out
	}
	l := a.Link()
	if l == nil {
		return nil
	}
	words, _ := l.Choices(path)
	var out []string
	for _, w := range words {
		out = append(out, path+" "+w)
	}
	return out
}

// settable lists the paths of the selected link's settings.
func (a *App) settable() []string {
	if l := a.Link(); l != nil {
		return l.Settable()
	}
	return nil
}

func commonPrefix(c []string) string {
	p := c[0]
	for _, s := range c[1:] {
		for !strings.HasPrefix(s, p) {
			p = p[:len(p)-1]
		}
	}
	return p
}
