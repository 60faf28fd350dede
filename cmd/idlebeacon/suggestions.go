package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

// suggesting is the option that suggests an edit instead of making it.
type suggesting struct{ note string }

func (g *suggesting) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&g.note, "suggest", "", "suggest it to the editors instead, with a note to them (may be empty)")
}

func (g *suggesting) asked(cmd *cobra.Command) bool { return cmd.Flags().Changed("suggest") }

var errSuggestOne = &usageError{errors.New("only an edit of a named item, told by options, can be suggested")}

// suggest suggests an edit, and tells how to follow it.
func (r *remote) suggest(ctx context.Context, c *client.Client, collection string, edit api.Edit, note string) error {
	made, err := c.Suggest(ctx, collection, api.NewSuggestion{Edit: edit, Note: note})
	if err != nil {
		return err
	}
	if r.json {
		return printJSON(made)
	}
	fmt.Printf("Suggested, as %s. An editor decides on it.\n", made.ID)
	for _, link := range made.Links {
		if link.Rel == "alternate" {
			fmt.Printf("Follow it at %s\n", link.Href)
		}
	}
	return nil
}

// patch changes an item as a merge patch says, or suggests that if it is asked for: then the item is nil.
func (g *suggesting) patch(
	cmd *cobra.Command, r *remote, c *client.Client, collection, id string, patch json.RawMessage, tag client.Tag,
) (*api.Item, error) {
	if g.asked(cmd) {
		edit := api.Edit{Op: "patch", ID: id, Patch: patch, IfMatch: string(tag)}
		return nil, r.suggest(cmd.Context(), c, collection, edit, g.note)
	}
	now, err := c.PatchItem(cmd.Context(), collection, id, patch, tag)
	return &now, err
}

func suggestionsCommand() *cobra.Command {
	var r remote
	var asked string
	var o client.SuggestionsOptions
	cmd := &cobra.Command{
		Use:   "suggestions",
		Short: "List the edits that were suggested; accept, decline or withdraw some",
		Args:  exactly(0),
		Example: "  idlebeacon suggestions --collection brindlemere\n" +
			"  idlebeacon suggestions accept 01a2... --word 'Thank you'",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.Flags().StringVar(&o.State, "state", "open", "open, accepted, declined or withdrawn, or \"\" for all")
	cmd.Flags().StringVar(&o.Item, "item", "", "only those about this item")
	cmd.Flags().IntVar(&o.Limit, "limit", 0, "the most to list")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			page, err := c.Suggestions(cmd.Context(), collection, o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(page)
			}
			printSuggestions(page.Suggestions)
			return nil
		})
	}
	cmd.AddCommand(suggestionShowCommand(), suggestionAcceptCommand(), suggestionDeclineCommand(),
		suggestionWithdrawCommand())
	return cmd
}

func printSuggestions(all []api.Suggestion) {
	if len(all) == 0 {
		fmt.Println("There are no such suggestions.")
		return
	}
	t := newTable("Suggestion", "Made", "By", "What", "Note", "State")
	for i := range all {
		s := &all[i]
		t.AppendRow(table.Row{s.ID, s.MadeAt.Local().Format("2006-01-02 15:04"), suggestedBy(s), short(suggested(s), 40),
			short(s.Note, 40), s.State})
	}
	t.Render()
}

func suggestedBy(s *api.Suggestion) string { return cmp.Or(s.By, s.Actor, "a guest") }

// suggested says in a few words what somebody suggests.
func suggested(s *api.Suggestion) string {
	switch s.Op {
	case "create":
		return "add " + cmp.Or(s.Item, "an item")
	case "delete":
		return "take out " + s.Item
	}
	var members []string
	for _, d := range s.Differing {
		members = append(members, d.Member[strings.LastIndex(d.Member, "/")+1:])
	}
	return "change " + s.Item + ": " + strings.Join(members, ", ")
}

func suggestionShowCommand() *cobra.Command {
	var r remote
	var asked, secret string
	cmd := &cobra.Command{Use: "show SUGGESTION", Short: "Show a suggestion beside the item as it is", Args: exactly(1)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	secretFlag(cmd, &secret)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			s, err := c.Suggestion(cmd.Context(), client.Follow{Collection: collection, ID: args[0], Secret: secret})
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(s)
			}
			printSuggestion(&s)
			return nil
		})
	}
	return cmd
}

func secretFlag(cmd *cobra.Command, secret *string) {
	cmd.Flags().StringVar(secret, "secret", "", "what the answer to who made the suggestion has as \"follow\"")
}

func printSuggestion(s *api.Suggestion) {
	fmt.Printf("%s suggested to %s (%s).\n", suggestedBy(s), suggested(s), s.MadeAt.Local().Format("2006-01-02 15:04"))
	if s.Note != "" {
		fmt.Printf("  Note: %s\n", s.Note)
	}
	for i := range s.Differing {
		fmt.Printf("  %s\n", difference(&s.Differing[i]))
	}
	if s.Op == "create" && s.Would != nil {
		fmt.Printf("  %s\n", s.Would.Properties)
	}
	for i := range s.Meanwhile {
		fmt.Printf("  Meanwhile, by others: %s\n", difference(&s.Meanwhile[i]))
	}
	if s.Against != "" {
		fmt.Printf("  It cannot be accepted as it is: %s.\n", s.Against)
	}
	if s.State != "open" {
		fmt.Printf("It was %s%s.\n", s.State, map[bool]string{true: " as change " + fmt.Sprint(s.Change)}[s.Change > 0])
	}
	if s.Word != "" {
		fmt.Printf("  Answer: %s\n", s.Word)
	}
}

// deciding is a command that does the same with each of some suggestions. What was done before one
// fails stays done.
func deciding(use, does, done string, more func(*cobra.Command), do func(context.Context, *client.Client, string,
	string) error) *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{Use: use + " SUGGESTION...", Short: does, Args: arguments(1, math.MaxInt)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	more(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			for i, id := range args {
				if err := do(cmd.Context(), c, collection, id); err != nil {
					tellConflict(err)
					if i == 0 {
						return err
					}
					return fmt.Errorf("%s, then: %w", count(i, "suggestion was", "suggestions were")+" "+done, err)
				}
			}
			if r.json {
				return printJSON(map[string][]string{done: args})
			}
			fmt.Printf("%s %s.\n", count(len(args), "suggestion", "suggestions"), done)
			return nil
		})
	}
	return cmd
}

func wordFlag(word *string) func(*cobra.Command) {
	return func(cmd *cobra.Command) {
		cmd.Flags().StringVar(word, "word", "", "what who made it is told")
	}
}

func suggestionAcceptCommand() *cobra.Command {
	var word string
	return deciding("accept", "Make edits that were suggested", "accepted", wordFlag(&word),
		func(ctx context.Context, c *client.Client, collection, id string) error {
			s, err := c.Suggestion(ctx, client.Follow{Collection: collection, ID: id})
			if err != nil {
				return err
			}
			var tag client.Tag
			if s.Now != nil {
				tag = client.Tag(s.Now.ETag)
			}
			_, err = c.AcceptSuggestion(ctx, collection, id, tag, api.Acceptance{Word: word})
			return err
		})
}

func suggestionDeclineCommand() *cobra.Command {
	var word string
	return deciding("decline", "Decide against suggestions", "declined", wordFlag(&word),
		func(ctx context.Context, c *client.Client, collection, id string) error {
			_, err := c.DeclineSuggestion(ctx, collection, id, word)
			return err
		})
}

func suggestionWithdrawCommand() *cobra.Command {
	var secret string
	return deciding("withdraw", "Take back suggestions of your own", "withdrawn",
		func(cmd *cobra.Command) { secretFlag(cmd, &secret) },
		func(ctx context.Context, c *client.Client, collection, id string) error {
			return c.WithdrawSuggestion(ctx, client.Follow{Collection: collection, ID: id, Secret: secret})
		})
}
