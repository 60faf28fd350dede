// Idlebeacon keeps shared places and serves them to map clients by viewport and
// zoom. Run it without arguments for its commands.
package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"

	"idlebeacon/client"
	"idlebeacon/internal/core/spelling"
)

// version is set when a release is built.
var version = "dev"

// Exit statuses.
const (
	exitFailed = 1 // also if nothing of a file could be used
	exitUsage  = 2
	exitPartly = 3 // not all of a file could be used
)

// A toldError has been told already, and has an exit status of its own.
type toldError struct{ status int }

func (e *toldError) Error() string { return "" }

// A usageError reports a command line that makes no sense.
type usageError struct{ err error }

func (e *usageError) Error() string { return e.err.Error() }
func (e *usageError) Unwrap() error { return e.err }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends the program at once
	os.Exit(run(ctx, os.Args[1:]))
}

func run(ctx context.Context, args []string) int {
	root := rootCommand()
	root.SetArgs(args)
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return 0
	}
	status := exitFailed
	var usage *usageError
	var told *toldError
	var answered *client.Error
	switch {
	case errors.As(err, &told):
		return told.status
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		status = exitUsage
	case errors.As(err, &answered) && answered.Status == http.StatusBadRequest && ofOption(cmd, answered.Field):
		status = exitUsage // the service takes the value of an option for wrong
	}
	message := inOptions(cmd, err.Error())
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		message = "interrupted"
	}
	if asJSON, _ := cmd.Flags().GetBool("json"); asJSON { // false if there is no such option
		printProblem(message, answered, status)
		return status
	}
	fmt.Fprintf(os.Stderr, "idlebeacon: %s\n", message)
	if usage != nil || answered == nil && status == exitUsage {
		fmt.Fprintln(os.Stderr, "Run 'idlebeacon --help', or a command with --help, to see how it is used.")
	}
	return status
}

// ofOption reports whether a command has an option for a member of a request.
func ofOption(cmd *cobra.Command, field string) bool {
	if field == "id" {
		field = "into"
	}
	return cmd.Flags().Lookup(strings.ReplaceAll(field, "_", "-")) != nil
}

// printProblem writes what went wrong as a problem (RFC 9457), for programs.
func printProblem(message string, answered *client.Error, status int) {
	problem := map[string]any{"title": "Failed", "detail": message}
	if status == exitUsage {
		problem["title"] = "Wrong use"
	}
	if answered != nil {
		problem["title"], problem["status"] = answered.Title, answered.Status
		if answered.Field != "" {
			problem["field"] = answered.Field
		}
	}
	encoder := json.NewEncoder(os.Stderr)
	encoder.SetIndent("", "  ")
	_ = encoder.Encode(problem) // there is nobody left to tell
}

func rootCommand() *cobra.Command {
	root := &cobra.Command{
		Use:   "idlebeacon",
		Short: "Shared places and live devices, served to map clients by viewport and zoom",
		Long: `Idle Beacon keeps shared places and live devices and serves them to map
clients: for the rectangle on the screen and its zoom, few and well-placed
markers.

Every option can also be set by an environment variable (IDLEBEACON_ and its
name in capitals, - as _) or in a configuration file; the command line comes
first, then the environment, then the file.`,
		Version:       version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.PersistentFlags().String("config", "", "configuration file (YAML, TOML or JSON) with options by their names")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{err} })
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		// A configuration file may have options of every command, and only those.
		if err := checkConfig(cmd); err != nil {
			return err
		}
		return settle(cmd.Flags())
	}
	root.AddCommand(
		serveCommand(),
		demoCommand(),
		collectionsCommand(),
		inspectCommand(),
		importCommand(),
		importsCommand(),
		exportCommand(),
		itemsCommand(),
		addCommand(),
		editCommand(),
		moveCommand(),
		removeCommand(),
		historyCommand(),
		suggestionsCommand(),
		pictureCommand(),
		undoCommand(),
		watchCommand(),
		devicesCommand(),
		groupsCommand(),
		trackCommand(),
		reportCommand(),
		simulateCommand(),
		watchesCommand(),
		noticesCommand(),
		hooksCommand(),
		hookStubCommand(),
		popupCommand(),
		markersCommand(),
		densityCommand(),
		shapesCommand(),
		membersCommand(),
		nearCommand(),
		styleCommand(),
		schemaCommand(),
		legendCommand(),
		iconsCommand(),
		keysCommand(),
		issuersCommand(),
		issuerStubCommand(),
		whoamiCommand(),
		signInCommand(),
	)
	complete(root)
	return root
}

// settle fills options that are not on the command line from the environment and
// the configuration file.
func settle(flags *pflag.FlagSet) error {
	v := viper.New()
	v.SetEnvPrefix("IDLEBEACON")
	v.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	v.AutomaticEnv()
	if err := readConfig(v, flags); err != nil {
		return err
	}
	var failed error
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Changed || f.Name == "help" || f.Name == "version" || !v.IsSet(f.Name) {
			return
		}
		if err := flags.Set(f.Name, v.GetString(f.Name)); err != nil && failed == nil {
			failed = &usageError{
				fmt.Errorf("option %s, from the environment or the configuration file: %w", f.Name, err),
			}
		}
	})
	return failed
}

// readConfig reads the configuration file that the options or the environment name, if any.
func readConfig(v *viper.Viper, flags *pflag.FlagSet) error {
	file, err := flags.GetString("config")
	if err != nil {
		return err
	}
	if file = cmp.Or(file, os.Getenv("IDLEBEACON_CONFIG")); file == "" {
		return nil
	}
	v.SetConfigFile(file)
	if err := v.ReadInConfig(); err != nil {
		return &usageError{fmt.Errorf("reading the configuration file: %w", err)}
	}
	return nil
}

// checkConfig refuses a configuration file with something that no command has as an option.
func checkConfig(cmd *cobra.Command) error {
	v := viper.New()
	if err := readConfig(v, cmd.Flags()); err != nil {
		return err
	}
	var known []string
	var gather func(*cobra.Command)
	gather = func(c *cobra.Command) {
		c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
		for _, below := range c.Commands() {
			gather(below)
		}
	}
	gather(cmd.Root())
	for _, key := range v.AllKeys() {
		name, _, _ := strings.Cut(key, ".") // of a list of names and values
		if slices.Contains(known, name) {
			continue
		}
		nearest := slices.MinFunc(
			known,
			func(a, b string) int { return cmp.Compare(apart(name, a), apart(name, b)) },
		)
		return &usageError{
			fmt.Errorf("the configuration file has %q, which is no option of any command; is %q meant?", name, nearest),
		}
	}
	return nil
}

func apart(a, b string) int {
	return spelling.Distance([]rune(a), []rune(b), len(a)+len(b))
}

// exactly is arguments for one number of them.
func exactly(n int) cobra.PositionalArgs { return arguments(n, n) }

// arguments makes a wrong number of arguments a usage error, which says what the command takes.
func arguments(least, most int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		path := cmd.CommandPath()
		_, takes, _ := strings.Cut(cmd.Use, " ")
		want := strings.TrimSpace(path + " " + takes)
		switch {
		case len(args) < least:
			return &usageError{fmt.Errorf("something is missing; want '%s'", want)}
		case len(args) <= most:
			return nil
		case !cmd.HasAvailableSubCommands():
			return &usageError{fmt.Errorf("%q is too much; want '%s', and options", args[most], want)}
		}
		var names []string
		for _, c := range cmd.Commands() {
			if c.IsAvailableCommand() {
				names = append(names, c.Name())
			}
		}
		return &usageError{fmt.Errorf("'%s' has no command %q; it has %s", path, args[most], strings.Join(names, ", "))}
	}
}
