package quantity

import "fmt"

// Count gives a number of things in words: `1 byte`, `3 bytes`.
func Count(n int, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}

// Quanta gives a number of time quanta of a CAN bit.
func Quanta(n int) string {
	if n == 1 {
		return "1 quantum"
	}
	return fmt.Sprintf("%d quanta", n)
}
