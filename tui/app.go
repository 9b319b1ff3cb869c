// Package tui is the full-screen interface: the shell around the views.
package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/plots"
	"gavrix.org/gavrix/tui/prefs"
	"gavrix.org/gavrix/tui/registers"
	"gavrix.org/gavrix/tui/theme"
	"gavrix.org/gavrix/tui/timing"
	"gavrix.org/gavrix/tui/traffic"
	"gavrix.org/gavrix/tui/transfers"
	"gavrix.org/gavrix/tui/ui"
	"gavrix.org/gavrix/tui/waves"
)

// beat is the time between two looks at the capture. Eight pictures a second are more
// than anybody reads; keys are answered at once.
const beat = 120 * time.Millisecond

// leastBetween is the least time from one picture to the next, but for a change of
// size.
const leastBetween = 12 * time.Millisecond

type pane int

const (
	linksPane pane = iota
	viewPane
	notesPane
)

// App is the state of the interface. It implements tea.Model and ui.Host.
type App struct {
	bench   *bench.Bench // nil when a capture without its bench is shown
	path    string       // where the bench is saved; "" for the demo
	session *session.Session
	store   *capture.Store
	source  string // of a capture that is shown: its file
	levels  *Levels
	opening *pcapng.Opening // of a recorded capture that is shown
	damage  string          // of it that was said
	full    bool            // it was said that memory is full
	// redecode: the bench was edited since the file of levels was decoded.
	redecode bool
	// reading reads what of it is not read yet.
	reading func() tea.Msg
	// proposed is what undescribed lines may be; nil until that was asked for.
	proposed *sought

	theme    *theme.Theme
	terminal theme.Look // as the terminal says it is
	prefers  prefs.Preferences
	w, h     int
	grid     *cells.Grid
	out      strings.Builder
	frame    string
	// Where messages come faster than pictures, as from a wheel or a paste, those
	// between are left out; the last one of all is drawn.
	paced bool
	stale bool
	drawn time.Time

	moment    moment
	reactions []*reaction
	trigger   sim.Trigger // what the views stop at, with real ports; nil: nothing
	ticks     int
	snap      *capture.Snapshot
	version   uint64
	ledger    *ledger.Ledger
	meanings  *bench.Meanings
	dump      ui.Dump // of the MCU's registers
	found     found
	notesTop  int // first row of the notes that is shown
	picked    int // of what the command line may become; -1: none

	link     int
	timing   *timing.View // its frame is what :draw saves where the view has no picture
	views    []numbered
	view     int
	focus    pane
	help     bool
	helpTop  int
	why      int
	command  *ui.Entry
	message  string
	warning  bool
	quitting bool // a second quit leaves unsaved edits
	// forgetting: a second reload forgets unsaved edits.
	forgetting bool

	results  map[string][]check.Result // of the checks, by link
	checking string                    // the link whose checks run now
	cancel   context.CancelFunc

	recorder *pcapng.Recorder
	viewAt   rect // where the view was drawn last, for the mouse
	linksAt  rect
	listFrom int // first row of the list of links that is shown
}

type rect struct{ x, y, w, h int }

func (r rect) holds(x, y int) bool { return x >= r.x && x < r.x+r.w && y >= r.y && y < r.y+r.h }

type numbered struct {
	key  string
	view ui.View
}

func newApp(b *bench.Bench, path string, s *session.Session, store *capture.Store) *App {
	a := &App{
		bench: b, path: path, session: s, store: store, theme: theme.New(theme.Look{Dark: true}), w: 80, h: 24,
		grid: cells.New(80, 24), focus: viewPane, results: map[string][]check.Result{},
		timing: timing.New(),
	}
	a.views = []numbered{{"2", a.timing}, {"3", registers.New()}, {"4", transfers.New()}, {"5", traffic.New()}, {"6", waves.New()}, {"7", plots.New()}}
	a.show("Traffic")
	a.terminal = theme.Look{Dark: true, ASCII: !prefs.UTF8(os.Getenv)}
	a.prefers = prefs.Default()
	a.dress()
	a.look()
	return a
}

// dress makes the theme for the terminal and what the user prefers.
func (a *App) dress() {
	l := a.terminal
	switch a.prefers.Theme {
	case "dark":
		l.Dark = true
	case "light":
		l.Dark = false
	}
	switch a.prefers.Colours {
	case "full":
		l.Colours = theme.Full
	case "16":
		l.Colours = theme.Sixteen
	case "none":
		l.Colours = theme.None
	}
	switch a.prefers.Lines {
	case "unicode":
		l.ASCII = false
	case "ascii":
		l.ASCII = true
	}
	a.theme = theme.New(l)
}

// Init implements tea.Model.
func (a *App) Init() tea.Cmd {
	guard.Fault("init")
	cmds := []tea.Cmd{tick(), tea.RequestBackgroundColor}
	if a.levels != nil {
		cmds = append(cmds, a.levels.load())
	}
	if a.reading != nil {
		cmds = append(cmds, a.reading)
	}
	return guarded(tea.Batch(cmds...))
}

// mostAsked is the number of ticks for which the size of the terminal is asked for.
const mostAsked = 33

type tickMsg struct{}

// damaged says what of an opened capture could not be read so far, each time it is more.
func (a *App) damaged() bool {
	if a.opening == nil || a.opening.Share() < 1 {
		return false // Load says it
	}
	if err := a.opening.Damage(); err != nil && err.Error() != a.damage {
		a.damage = err.Error()
		a.Warn("%s: %s", a.source, a.damage)
		return true
	}
	return false
}

// settleMsg draws what was left out.
type settleMsg struct{}

func tick() tea.Cmd { return tea.Tick(beat, func(time.Time) tea.Msg { return tickMsg{} }) }

// checkedMsg brings the results of a link's checks.
type checkedMsg struct {
	link    string
	results []check.Result
	err     error
}

// mostFollowed bounds what the ledger of registers takes between two pictures.
const mostFollowed = 400

// look takes a snapshot if something is new, and says whether it did.
func (a *App) look() bool {
	if a.snap != nil && a.version != 0 && a.store.Version() == a.version && a.snap.Now == a.Now() {
		return false
	}
	a.version = a.store.Version()
	a.snap = a.store.Snapshot()
	if a.ledger == nil || !a.ledger.Fits(a.bench) {
		a.ledger, a.meanings = ledger.New(a.bench), a.bench.Meanings()
		a.ledger.Most = mostFollowed
	}
	a.ledger.Update(a.snap)
	a.find()
	if !a.full && a.snap.First() > 0 {
		a.full = true
		a.Say("memory is full: the oldest records go from here on; :record FILE keeps all, --memory N takes more")
	}
	return true
}

// guarded gives a command whose panic ends the program in order: commands run in
// goroutines of the library.
func guarded(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	return func() tea.Msg {
		defer guard.Recover()
		guard.Fault("command")
		msg := cmd()
		if several, ok := msg.(tea.BatchMsg); ok {
			for i := range several {
				several[i] = guarded(several[i])
			}
		}
		return msg
	}
}

// mostTyped bounds what a paste types.
const mostTyped = 2000

// paste takes pasted text: into the line that is being typed, or as the view takes it.
func (a *App) paste(text string) tea.Cmd {
	typing := a.command != nil || a.current().Typing() && a.focus == viewPane
	if !typing {
		if p, ok := a.current().(ui.Paster); ok {
			p.Paste(text, a)
		} else {
			a.Say("nothing is typed here; : takes a command")
		}
		return nil
	}
	if p, ok := a.current().(ui.LinePaster); ok && a.command == nil {
		if cmd, taken := p.PasteLines(text, a); taken {
			return cmd
		}
	}
	var cmds []tea.Cmd
	n := 0
	for _, r := range strings.TrimRight(text, "\r\n") {
		if n++; n > mostTyped {
			a.Warn("only the first %d characters were taken", mostTyped)
			break
		}
		if !unicode.IsPrint(r) {
			r = ' '
		}
		k := tea.KeyPressMsg{Text: string(r), Code: r}
		if a.command != nil {
			cmds = append(cmds, a.commandKey(k))
		} else {
			cmds = append(cmds, a.current().Type(k, a))
		}
	}
	return tea.Batch(cmds...)
}

// Update implements tea.Model.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	guard.Fault("update")
	cmd := a.update(msg)
	return a, guarded(cmd)
}

// update takes a message and draws what it changed.
func (a *App) update(msg tea.Msg) tea.Cmd {
	var cmd tea.Cmd
	switch m := msg.(type) {
	case tickMsg:
		new, halted := a.look(), a.halted() || a.damaged()
		reacted := a.react()
		if new || halted || reacted != nil {
			a.draw()
		}
		cmd = tea.Batch(tick(), reacted, a.findApart())
		if a.redecode {
			a.redecode = false
			cmd = tea.Batch(cmd, a.decodeAnew())
		}
		a.ticks++
		if a.ticks%3 == 0 && a.ticks < mostAsked {
			// A change of size just at the start goes by unheard.
			return tea.Batch(cmd, tea.RequestWindowSize)
		}
		if t, ok := a.current().(ui.Ticker); ok {
			return tea.Batch(cmd, t.Tick(a))
		}
		return cmd
	case settleMsg:
		if a.stale {
			a.look()
			a.draw()
		}
		return nil
	case tea.WindowSizeMsg:
		if m.Width == a.w && m.Height == a.h && a.frame != "" {
			return nil
		}
		a.w, a.h = m.Width, m.Height
		a.grid.Resize(a.w, a.h)
		a.drawn = time.Time{}
	case tea.BackgroundColorMsg:
		a.terminal.Dark = m.IsDark()
		a.dress()
	case tea.ColorProfileMsg:
		switch m.Profile {
		case colorprofile.TrueColor, colorprofile.ANSI256:
			a.terminal.Colours = theme.Full
		case colorprofile.ANSI:
			a.terminal.Colours = theme.Sixteen
		default:
			a.terminal.Colours = theme.None
		}
		a.dress()
	case tea.KeyPressMsg:
		cmd = a.key(m)
	case tea.MouseClickMsg:
		a.click(m.X, m.Y)
	case tea.MouseWheelMsg:
		if a.viewAt.holds(m.X, m.Y) {
			a.current().Wheel(m.Button == tea.MouseWheelDown, a)
		}
	case tea.PasteMsg:
		cmd = a.paste(m.Content)
	case ui.Done:
		cmd = m(a)
	case checkedMsg:
		a.checked(m)
	case foundMsg:
		a.foundApart(m)
	case readMsg:
		var damage *pcapng.Damage
		switch {
		case m.err == nil || errors.Is(m.err, context.Canceled):
		case errors.As(m.err, &damage):
			a.damage = m.err.Error()
			a.Warn("%s: %v", a.source, m.err)
		default:
			a.Warn("%s: %v; what comes before it is shown", a.source, m.err)
		}
	case loadedMsg:
		if m.levels != a.levels {
			break
		}
		if notes := decode.Notes(m.levels.file.Source); m.err != nil {
			a.Warn("%s: %v; what comes before it is shown", a.source, m.err)
		} else if len(notes) > 0 {
			a.Warn("%s: %s", a.source, strings.Join(notes, "; "))
		}
	case proposedMsg:
		a.proposedCame(m)
	case wroteMsg:
		if m.err != nil {
			a.Warn("%v", m.err)
		} else {
			a.Say("wrote %s", m.path)
		}
	default:
		return nil
	}
	if a.paced && time.Since(a.drawn) < leastBetween {
		if a.stale {
			return cmd
		}
		a.stale = true
		return tea.Batch(cmd, tea.Tick(leastBetween, func(time.Time) tea.Msg { return settleMsg{} }))
	}
	a.look()
	a.draw()
	return cmd
}

// View implements tea.Model.
func (a *App) View() tea.View {
	guard.Fault("view")
	v := tea.NewView(a.frame)
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	if a.bench != nil {
		v.WindowTitle = "Gavrix"
	}
	return v
}

// show goes to the view with a name.
func (a *App) show(name string) {
	a.view = slices.IndexFunc(a.views, func(n numbered) bool { return n.view.Name() == name })
}

func (a *App) current() ui.View { return a.views[a.view].view }

func (a *App) click(x, y int) {
	switch {
	case a.help:
		a.help = false
	case a.linksAt.holds(x, y):
		a.focus = linksPane
		if i := a.linkAtRow(y - a.linksAt.y); i >= 0 {
			a.link = i
		}
	case a.viewAt.holds(x, y):
		a.focus = viewPane
		a.current().Click(x-a.viewAt.x, y-a.viewAt.y, a)
	}
}

// Bench implements ui.Host.
func (a *App) Bench() *bench.Bench { return a.bench }

// Link implements ui.Host.
func (a *App) Link() *bench.Link {
	return a.benchLink(a.link)
}

// benchLink gives the bench's link at a place of the list; nil where there is none.
func (a *App) benchLink(i int) *bench.Link {
	if a.bench == nil || i >= len(a.bench.Links) {
		return nil
	}
	return a.bench.Links[i]
}

// captured gives the selected link of the capture; nil where there is none.
func (a *App) captured() *capture.Link {
	if links := a.snap.Meta().Links; a.link < len(links) {
		return &links[a.link]
	}
	return nil
}

// viewCommands are the commands of the view.
func (a *App) viewCommands() []ui.Command { return a.current().Commands(a) }

// LinkIndex implements ui.Host.
func (a *App) LinkIndex() uint16 { return uint16(a.link) }

// Snapshot implements ui.Host.
func (a *App) Snapshot() *capture.Snapshot { return a.snap }

// Settings implements ui.Host.
func (a *App) Settings(link int) []bus.Settings {
	switch {
	case a.levels != nil && link < len(a.levels.Links):
		return a.levels.Links[link].Settings
	case a.bench == nil || link >= len(a.bench.Links):
		return nil
	}
	return a.bench.Links[link].Model.Tap()
}

// doLimit is how long something that was asked of a link is waited for.
const doLimit = 10 * time.Second

// Dump implements ui.Host.
func (a *App) Dump() *ui.Dump { return &a.dump }

// Controls implements ui.Host.
func (a *App) Controls() {
	for i, n := range a.views {
		if c, is := n.view.(ui.Controller); is {
			a.view = i
			c.ShowControls(a)
		}
	}
}

// Meanings implements ui.Host.
func (a *App) Meanings() *bench.Meanings { return a.meanings.Within(&a.snap.Reader) }

// Work implements ui.Host.
func (a *App) Work(f func(ctx context.Context) ui.Done) tea.Cmd {
	if a.cancel != nil {
		a.Warn("something else is on its way; Esc stops it")
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), doLimit)
	a.cancel = cancel
	return func() tea.Msg {
		done := f(ctx)
		cancel()
		return ui.Done(func(h ui.Host) tea.Cmd {
			a.cancel = nil
			return done(h)
		})
	}
}

// Do implements ui.Host.
func (a *App) Do(i link.Intent, then func(link.Outcome)) tea.Cmd {
	s := a.session
	if s == nil {
		a.Warn("a capture is shown: nothing can be asked of it")
		return nil
	}
	info := s.Info(a.LinkIndex())
	done := "done"
	if i.Verb() == link.SendVerb {
		done = "sent"
	}
	switch why := info.Refuses(i); {
	case !info.Open && info.Simulated:
		a.Warn("not %s: %s", done, info.Problem)
		return nil
	case !info.Open:
		a.Warn("not %s: %v: %s", done, link.ErrNotOpen, info.Problem)
		return nil
	case why != "":
		a.Warn("not %s: %s", done, why)
		return nil
	}
	at := a.LinkIndex()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), doLimit)
		defer cancel()
		out, err := s.Do(ctx, at, i)
		return ui.Done(func(h ui.Host) tea.Cmd {
			switch {
			case errors.Is(err, context.DeadlineExceeded):
				h.Warn("nothing came of it within %s: the bus is held, or time is stopped", doLimit)
			case err != nil:
				h.Warn("not %s: %v", done, err)
			case then != nil:
				then(out)
			case out.OK:
				h.Say("%s: %s", i.Verb(), cmp.Or(out.Text, "done"))
			default:
				h.Warn("%s", out.Text)
			}
			return nil
		})
	}
}

// Session implements ui.Host.
func (a *App) Session() link.Session {
	if a.session == nil {
		return nil
	}
	return a.session
}

// Now implements ui.Host.
func (a *App) Now() quantity.Time {
	if a.session != nil {
		return a.session.Now()
	}
	if a.snap != nil {
		return a.snap.Now
	}
	return 0
}

// Say implements ui.Host.
func (a *App) Say(format string, args ...any) {
	a.message, a.warning = fmt.Sprintf(format, args...), false
}

// Warn implements ui.Host.
func (a *App) Warn(format string, args ...any) {
	a.message, a.warning = fmt.Sprintf(format, args...), true
}

// Edit implements ui.Host.
func (a *App) Edit(edits ...finding.Edit) {
	if a.bench == nil {
		return
	}
	if err := a.bench.Apply(edits...); err != nil {
		a.Warn("not changed: %v", err)
		return
	}
	last := edits[len(edits)-1]
	what := last.Value
	if last.Op == finding.Delete {
		what = "removed"
	}
	a.applied(fmt.Sprintf("%s: %s   u takes it back", strings.Join(last.Path, "."), what))
}

// applied brings a changed bench into the session. What was proven with the
// old settings no longer counts.
func (a *App) applied(text string) {
	clear(a.results)
	a.quitting, a.forgetting = false, false
	a.version = 0 // the findings are to be found anew
	a.found.edited()
	if a.session == nil {
		a.Say("%s", text)
		a.redecode = a.levels != nil
		return
	}
	if err := a.session.Apply(a.bench); err != nil {
		a.Warn("%v", err)
		return
	}
	a.Say("%s", text)
}
