// Idlebeacon keeps shared places and serves them to map clients by viewport and
// zoom. Run it without arguments for its commands.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"
)

// version is set when a release is built.
var version = "dev"

// Exit statuses.
const (
	exitFailed = 1
	exitUsage  = 2
)

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
	err := root.ExecuteContext(ctx)
	var usage *usageError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		fmt.Fprintf(os.Stderr, "idlebeacon: %v\nRun 'idlebeacon --help', or a command with --help, to see how it is used.\n", err)
		return exitUsage
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		fmt.Fprintln(os.Stderr, "idlebeacon: interrupted")
		return exitFailed
	default:
		fmt.Fprintf(os.Stderr, "idlebeacon: %v\n", err)
		return exitFailed
	}
}

func rootCommand() *cobra.Command {
	root := &cobra.Command{
		Use:   "idlebeacon",
		Short: "Shared places, served to map clients by viewport and zoom",
		Long: `Idle Beacon keeps shared places and serves them to map clients: for the
rectangle on the screen and its zoom, few and well-placed markers.

Every option can also be set by an environment variable (IDLEBEACON_ and its
name in capitals, - as _) or in a configuration file; the command line comes
first, then the environment, then the file.`,
		Version:       version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.PersistentFlags().String("config", "", "configuration file (YAML, TOML or JSON) with options by their names")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{err} })
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error { return settle(cmd.Flags()) }
	root.AddCommand(serveCommand(), demoCommand(), collectionsCommand(), inspectCommand(), importCommand(), importsCommand(), exportCommand(), itemsCommand(), popupCommand(), markersCommand(), shapesCommand(), membersCommand(), nearCommand(), styleCommand(), legendCommand(), iconsCommand())
	return root
}

// settle fills options that are not on the command line from the environment and
// the configuration file.
func settle(flags *pflag.FlagSet) error {
	v := viper.New()
	v.SetEnvPrefix("IDLEBEACON")
	v.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	v.AutomaticEnv()
	file, err := flags.GetString("config")
	if err != nil {
		return err
	}
	if file == "" {
		file = os.Getenv("IDLEBEACON_CONFIG")
	}
	if file != "" {
		v.SetConfigFile(file)
		if err := v.ReadInConfig(); err != nil {
			return &usageError{fmt.Errorf("reading the configuration file: %w", err)}
		}
	}
	var failed error
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Changed || f.Name == "help" || f.Name == "version" || !v.IsSet(f.Name) {
			return
		}
		if err := flags.Set(f.Name, v.GetString(f.Name)); err != nil && failed == nil {
			failed = &usageError{fmt.Errorf("option %s, from the environment or the configuration file: %w", f.Name, err)}
		}
	})
	return failed
}

// exactly makes a wrong number of arguments a usage error.
func exactly(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := cobra.ExactArgs(n)(cmd, args); err != nil {
			return &usageError{fmt.Errorf("%s: %w", cmd.CommandPath(), err)}
		}
		return nil
	}
}
