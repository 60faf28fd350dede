package pgbox

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
)

// sharedBuffers returns how much of the machine's memory, in MB, the database keeps pages in: a
// sixteenth, from the 128 that are PostgreSQL's own choice to 768. Large imports change pages all
// over a table; with few in memory, each is written out and read again.
func sharedBuffers() int {
	const least, most, share = 128, 768, 16
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return least // not Linux
	}
	return min(most, max(least, memoryIn(text)/share))
}

// memoryIn returns the memory of a machine in MB by its /proc/meminfo, 0 if that does not say.
func memoryIn(meminfo []byte) int {
	for lines := bufio.NewScanner(bytes.NewReader(meminfo)); lines.Scan(); {
		var kilobytes int
		if n, _ := fmt.Sscanf(lines.Text(), "MemTotal: %d kB", &kilobytes); n == 1 {
			return kilobytes / 1024
		}
	}
	return 0
}
