package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/daemon"
	"idlebeacon/internal/store"
	"idlebeacon/web"
)

const (
	defaultListen = "127.0.0.1:8470"
	defaultData   = "idlebeacon-data"
)

// demoData is the data directory of the demo.
var demoData = filepath.Join(defaultData, "demo")

// serveOptions are options of running a service as they are written.
type serveOptions struct {
	level, format  string // what to log, and how
	hosts, proxies []string
}

// defaultGuestsPerMinute is plenty for some people behind one address who move their maps.
const defaultGuestsPerMinute = 6000

// serveFlags adds the options of running a service.
func serveFlags(cmd *cobra.Command, config *daemon.Config, data string) *serveOptions {
	config.Version, config.Console = version, web.Console()
	flags, log := cmd.Flags(), &serveOptions{}
	flags.StringVar(&config.Listen, "listen", defaultListen, "address to serve on; port 0 takes a free one")
	flags.StringVar(
		&config.BaseURL,
		"base-url",
		"",
		"where clients reach the service, such as https://maps.example/beacon (default: where their requests go to)",
	)
	flags.StringVar(&config.Data, "data", data, "directory of the private database and of the owner key")
	flags.IntVar(
		&config.Connections,
		"connections",
		store.DefaultConnections,
		fmt.Sprintf("the most connections to the database, %d or more", store.MinConnections),
	)
	flags.IntVar(
		&config.WorkMemory,
		"work-memory",
		admission.DefaultBytes>>20,
		"MiB of memory that sorting, searching and reading large bodies may take together",
	)
	flags.DurationVar(
		&config.KeepHistory,
		"keep-history",
		0,
		"how long changes are kept, such as 2160h for 90 days, at least 1h; 0 for good",
	)
	flags.DurationVar(
		&config.KeepDeleted,
		"keep-deleted",
		daemon.DefaultKeepDeleted,
		"how long deleted collections can be brought back, at least 1h",
	)
	flags.DurationVar(
		&config.KeepPositions,
		"keep-positions",
		daemon.DefaultKeepPositions,
		"how long positions of devices are kept if their group does not say, at least 1h; 0 for good",
	)
	flags.DurationVar(&config.StopTimeout, "stop-timeout", daemon.DefaultStopTimeout, "how long a stop may take")
	flags.StringVar(
		&config.Bus, "bus", "",
		"URL of a NATS server, such as nats://127.0.0.1:4222, by which several processes "+
			"on one database hear of positions at once (default: they look every second)",
	)
	flags.StringVar(
		&config.MQTT, "mqtt", "",
		"address to take positions of devices on over MQTT, such as 127.0.0.1:8471; "+
			"with TLS if there is a certificate (default: not at all)",
	)
	flags.BoolVar(&config.HooksPrivate, "hooks-private", false, "let hooks be told at addresses that are not on the "+
		"public Internet, such as those of this machine and of its network")
	flags.StringVar(&config.Certificate, "tls-certificate", "", "file with a certificate and those that lead to it, in "+
		"PEM; it is read again when it changes")
	flags.StringVar(&config.PrivateKey, "tls-key", "", "file with the private key of the certificate, in PEM")
	flags.StringSliceVar(&log.hosts, "hosts", nil, "host names that the service answers to beside those of this "+
		"machine and of --base-url, such as maps.example; without any, also to all addresses")
	flags.StringSliceVar(&log.proxies, "trusted-proxies", nil, "addresses or networks of proxies whose word counts on "+
		"where requests come from, such as 10.1.2.0/24")
	flags.StringSliceVar(&config.FrameAncestors, "frame-ancestors", nil, "origins of pages that may show the console in "+
		"a frame, such as https://app.example")
	flags.IntVar(&config.GuestsPerMinute, "guests-per-minute", defaultGuestsPerMinute, "the most requests a minute from "+
		"one address without a key; 0 for any number")
	flags.BoolVar(&config.AccessLog, "access-log", false, "write a line for each request")
	flags.StringVar(&log.level, "log", "info", "how much to log: debug, info, warn or error")
	flags.StringVar(&log.format, "log-format", "text", "how to log: text or json")
	return log
}

func (o *serveOptions) logger() (*slog.Logger, error) {
	var options slog.HandlerOptions
	var level slog.Level
	if err := level.UnmarshalText([]byte(o.level)); err != nil {
		return nil, &usageError{fmt.Errorf("--log %s: want debug, info, warn or error", o.level)}
	}
	options.Level = level
	switch o.format {
	case "text":
		return slog.New(slog.NewTextHandler(os.Stderr, &options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(os.Stderr, &options)), nil
	}
	return nil, &usageError{fmt.Errorf("--log-format %s: want text or json", o.format)}
}

// check refuses options that make no sense, and reads those that have a form of their own.
func (o *serveOptions) check(config *daemon.Config) error {
	for _, host := range o.hosts {
		if host == "" || strings.ContainsAny(host, "/: ") {
			return &usageError{fmt.Errorf("--hosts %s: want host names without a port, such as maps.example", host)}
		}
		config.Hosts = append(config.Hosts, strings.ToLower(host))
	}
	for _, text := range o.proxies {
		network, err := netip.ParsePrefix(text)
		if address, wrong := netip.ParseAddr(text); wrong == nil {
			network, err = address.Prefix(address.BitLen())
		}
		if err != nil {
			return &usageError{fmt.Errorf("--trusted-proxies %s: want an address or a network, such as 10.1.2.0/24", text)}
		}
		config.TrustedProxies = append(config.TrustedProxies, network)
	}
	if err := policy.CheckOrigins("--frame-ancestors", config.FrameAncestors); err != nil {
		return &usageError{err}
	}
	base, err := url.Parse(config.BaseURL)
	switch {
	case config.BaseURL != "" && (err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" ||
		base.RawQuery != ""):
		return &usageError{
			fmt.Errorf("--base-url %s: want an address that begins with http:// or https://", config.BaseURL),
		}
	case (config.Certificate == "") != (config.PrivateKey == ""):
		return &usageError{errors.New("--tls-certificate and --tls-key: want both, or none")}
	case config.GuestsPerMinute < 0:
		return &usageError{fmt.Errorf("--guests-per-minute %d: want 1 or more, or 0 for any number", config.GuestsPerMinute)}
	case config.Connections < store.MinConnections:
		return &usageError{fmt.Errorf("--connections %d: want at least %d", config.Connections, store.MinConnections)}
	case config.WorkMemory < leastWorkMemory:
		return &usageError{fmt.Errorf("--work-memory %d: want at least %d", config.WorkMemory, leastWorkMemory)}
	case config.StopTimeout < time.Second:
		return &usageError{fmt.Errorf("--stop-timeout %v: want at least 1s", config.StopTimeout)}
	case config.KeepHistory < 0 || config.KeepHistory > 0 && config.KeepHistory < time.Hour:
		return &usageError{fmt.Errorf("--keep-history %v: want at least 1h, or 0 for good", config.KeepHistory)}
	case config.KeepDeleted < time.Hour:
		return &usageError{fmt.Errorf("--keep-deleted %v: want at least 1h", config.KeepDeleted)}
	case config.KeepPositions < 0 || config.KeepPositions > 0 && config.KeepPositions < time.Hour:
		return &usageError{fmt.Errorf("--keep-positions %v: want at least 1h, or 0 for good", config.KeepPositions)}
	}
	if config.KeepPositions == 0 {
		config.KeepPositions = -1 // as the configuration has it
	}
	return nil
}

const leastWorkMemory = 64 // MiB

func serveCommand() *cobra.Command {
	var config daemon.Config
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service until it is interrupted.

Without --dsn it keeps a private PostgreSQL database in the data directory,
which it starts and stops itself.`,
		Args: exactly(0),
	}
	logging := serveFlags(cmd, &config, defaultData)
	cmd.Flags().StringVar(&config.DSN, "dsn", "", "PostgreSQL connection string of a database of your own")
	cmd.Flags().StringVar(&config.Schema, "schema", "", "schema of the service's tables in that database, made if "+
		"it is not there")
	cmd.Flags().StringVar(&config.Backdrop, "backdrop", "", "GeoJSON file of land outlines to draw below the markers")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log, err := logging.logger()
		if err == nil {
			err = logging.check(&config)
		}
		if err != nil {
			return err
		}
		return serve(cmd.Context(), config, log, func(string) error { return nil })
	}
	return cmd
}

// serve runs a service until ctx ends, calling ready with its URL once it
// answers.
func serve(ctx context.Context, config daemon.Config, log *slog.Logger, ready func(url string) error) error {
	d, err := daemon.Start(ctx, config, log)
	if err != nil {
		return err
	}
	err = ready(d.URL())
	if err == nil {
		err = d.Wait(ctx)
	}
	log.Info("stopping")
	err = errors.Join(err, d.Stop())
	if err == nil {
		log.Info("stopped")
	}
	return err
}
