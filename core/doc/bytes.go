package doc

import "strconv"

// quotedBytes are the escapes of one letter in double quotes.
var quotedBytes = map[byte]string{
	'0': "\x00", 'a': "\a", 'b': "\b", 't': "\t", 'n': "\n", 'v': "\v", 'f': "\f", 'r': "\r", 'e': "\x1b",
	' ': " ", '"': "\"", '/': "/", '\\': "\\", 'N': "\u0085", '_': "\u00a0", 'L': "\u2028", 'P': "\u2029",
}

// Bytes gives the scalar as bytes for a wire: \xNN in double quotes is the byte NN, as
// wherever texts are typed, and not the character of that number, which would go out as
// two bytes.
func (n *Node) Bytes() []byte {
	if n == nil || n.Kind != Value {
		return nil
	}
	if n.file == nil || n.valOff < 0 || n.valOff >= len(n.file.text) || n.file.text[n.valOff] != '"' {
		return []byte(n.Scalar)
	}
	var out []byte
	raw := n.file.text[n.valOff+1:]
	for i := 0; i < len(raw) && raw[i] != '\n'; i++ {
		switch c := raw[i]; c {
		case '"':
			return out
		case '\\':
			if i++; i == len(raw) {
				continue
			}
			if plain, has := quotedBytes[raw[i]]; has {
				out = append(out, plain...)
				continue
			}
			digits := map[byte]int{'x': 2, 'u': 4, 'U': 8}[raw[i]]
			if digits == 0 || i+digits >= len(raw) {
				return []byte(n.Scalar)
			}
			v, err := strconv.ParseUint(string(raw[i+1:i+1+digits]), 16, 32)
			switch {
			case err != nil:
				return []byte(n.Scalar)
			case digits == 2:
				out = append(out, byte(v))
			default:
				out = append(out, string(rune(v))...)
			}
			i += digits
		default:
			out = append(out, c)
		}
	}
	return []byte(n.Scalar) // over several lines: it is folded
}
