package theme

// ascii are the signs that stand for others where only those of ASCII can be shown.
var ascii = map[rune]rune{
	'─': '-', '│': '|', '┌': '+', '┐': '+', '└': '+', '┘': '+', '┴': '+', '┬': '+', '┼': '+', '╫': '#', '║': '#',
	'╰': '+', '╯': '+', '╎': '|', '┊': ':', '╵': '.', '╷': '\'', '▁': '_', '▔': '-', '░': '%', '▏': '|',
	'●': '*', '○': 'o', '◦': 'o', '◇': '#', '▲': '!', '△': '?', '✓': 'v', '✗': 'x', '✕': 'x', '▸': '>', '◂': '<', '━': '=', '▶': '>', '‖': '=',
	'→': '>', '←': '<', '↑': '^', '↓': 'v', '⇄': '=', '⇅': '%', '⇠': '<', '↵': '/', '␣': '_',
	'÷': '/', '×': 'x', '±': '~', '°': 'o', 'µ': 'u', 'Ω': 'R', 'Δ': 'd', '≠': '#', '≤': '<', '≥': '>', '≈': '~', '−': '-',
	'…': '~', '·': '.', '∙': '.', '∅': '0', '¤': '*', '–': '-', '█': '#', '▌': '#', '▐': '#', '▄': '#', '▀': '#', '²': '2', '⌫': '<', '␡': '?',
}

// shown gives the rune that is written for one.
func (t *Theme) shown(r rune) rune {
	if !t.ascii || r < 0x7f {
		return r
	}
	if a, known := ascii[r]; known {
		return a
	}
	if r >= dotsFirst && r <= dotsLast {
		return dots(r)
	}
	return '?'
}

// Patterns of dots, as charts are made of.
const (
	dotsFirst, dotsLast       = 0x2800, 0x28ff
	upperDots, lowerDots rune = 0x1b, 0xe4
)

// dots gives the sign that is most like a pattern: above, below, or both.
func dots(r rune) rune {
	switch up, low := r&upperDots != 0, r&lowerDots != 0; {
	case up && low:
		return '|'
	case up:
		return '\''
	case low:
		return '.'
	}
	return ' '
}
