// Accesstable writes the table of who may do what into a document, between the lines that mark
// its place.
package main

import (
	"fmt"
	"os"
	"strings"

	"idlebeacon/internal/core/policy"
)

const begin, end = "<!-- table -->\n", "<!-- end of the table -->\n"

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "accesstable:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("want the name of the document")
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	head, rest, found := strings.Cut(string(text), begin)
	_, tail, closed := strings.Cut(rest, end)
	if !found || !closed {
		return fmt.Errorf("%s has no place for the table", args[0])
	}
	var table strings.Builder
	if err := policy.WriteTable(&table); err != nil {
		return err
	}
	return os.WriteFile(args[0], []byte(head+begin+"\n"+table.String()+"\n"+end+tail), 0o644)
}
