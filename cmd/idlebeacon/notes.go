package main

import (
	"encoding/csv"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"idlebeacon/api"
)

// printNotes prints what to know of a file as a whole, and what to add to the command to
// have it otherwise.
func printNotes(notes []api.FileNote) {
	var fixes []string
	for i := range notes {
		n := &notes[i]
		fmt.Printf("  %s\n", n.Text)
		if n.Kind == "fix" {
			fixes = append(fixes, n.About)
		} else if advice := advise(n); advice != "" {
			fmt.Printf("    %s\n", advice)
		}
	}
	if len(fixes) > 0 {
		slices.Sort(fixes)
		fmt.Printf("  To have them mended, add --fix %s.\n", strings.Join(fixes, ","))
	}
}

func advise(n *api.FileNote) string {
	var options []string
	for _, s := range n.Set {
		options = append(options, asOption(s))
	}
	switch {
	case len(options) == 0:
		return ""
	case n.Kind == "mirrored":
		return fmt.Sprintf(
			"If the first is right, add --fix swap_doubtful %s; if the second is, --fix swap_doubtful %s; if both "+
				"are, nothing.",
			options[0],
			options[1],
		)
	case n.Kind == "numbers" || n.Kind == "misfit":
		if slices.ContainsFunc(
			n.Set,
			func(s api.Setting) bool { return strings.HasSuffix(s.Value, ":decimal_point") },
		) &&
			len(options) > 1 {
			return "To read it as numbers, add " + options[0] + ", or " + strings.Join(options[1:], " ") + "."
		}
	}
	return "To have it otherwise, add " + strings.Join(options, " ") + "."
}

// asOption writes a setting as an option of the command line.
func asOption(s api.Setting) string {
	value := unescapeList.Replace(s.Value)
	switch s.Option {
	case "type":
		at := strings.LastIndex(value, ":")
		value = listElement(value[:max(0, at)] + "=" + value[at+1:])
	case "no_value", "fix":
		value = listElement(value)
	}
	return "--" + strings.ReplaceAll(s.Option, "_", "-") + " " + shellWord(value)
}

var unescapeList = strings.NewReplacer(`\\`, `\`, `\,`, ",")

// listElement writes an element of an option that takes a list.
func listElement(value string) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	_ = w.Write([]string{value}) // to memory
	w.Flush()
	return strings.TrimSuffix(b.String(), "\n")
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_=.,:/@+-]+$`)

// shellWord quotes a word for a shell if that is needed.
func shellWord(word string) string {
	if plainWord.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

var parameterName = regexp.MustCompile(`\b[a-z]+(_[a-z]+)+\b`)

// inOptions writes the names of parameters in a message of the service as the options of a
// command.
func inOptions(cmd *cobra.Command, message string) string {
	return parameterName.ReplaceAllStringFunc(message, func(name string) string {
		if option := strings.ReplaceAll(name, "_", "-"); cmd.Flags().Lookup(option) != nil {
			return "--" + option
		}
		return name
	})
}
