package firmware

import (
	"fmt"
	"hash/crc32"
	"strings"
)

const mark = "/* Made from a bench, anew with each export. Sum of what follows: "

// Marked is the text of a file with a line in front that says that it is made, and by which
// it is seen whether somebody changed it since.
func Marked(text string) string {
	return fmt.Sprintf("%s%08X */\n%s", mark, crc32.ChecksumIEEE([]byte(text)), text)
}

// Unchanged reports whether a file is as Marked gave it.
func Unchanged(text string) bool {
	_, rest, whole := strings.Cut(text, "\n")
	return whole && Marked(rest) == text
}
