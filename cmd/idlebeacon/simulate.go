package main

import (
	"container/heap"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"os"
	"time"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/demo"
)

// simulation is devices of the isles that report.
type simulation struct {
	devices                 int
	rate                    float64 // reports a second of all together; 0 for as often as each does
	late, doubled, dropOuts float64 // percent
	past, length            time.Duration
	over                    string // http, ws or mqtt
	mqtt                    string // host:port
	key                     string // for MQTT
}

func simulateCommand() *cobra.Command {
	var r remote
	var s simulation
	cmd := &cobra.Command{
		Use: "simulate", Short: "Report made-up devices that move about the Brindlemere Isles", Args: exactly(0),
		Long: `Report made-up devices that move about the Brindlemere Isles, until you stop it
with Ctrl-C: boats on the ferry lanes, wardens on their rounds, anchored buoys.
Where each is follows from the time, so they go on where they were. Some reports
are late, some come twice, and now and then a device has no connection.`,
		Example: "  idlebeacon simulate --devices 1000 --rate 500 --for 1h",
	}
	r.flags(cmd)
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := s.check(); err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			s.key = r.called.Key
			fleet := demo.New(1).Fleet(s.devices)
			if err := makeFleetGroups(cmd.Context(), c, fleet); err != nil {
				return err
			}
			sender, err := s.sender(cmd.Context(), c)
			if err != nil {
				return err
			}
			defer sender.close()
			s.sendPast(cmd.Context(), &httpSender{client: c}, fleet, &simulated{})
			told := s.run(cmd.Context(), sender, fleet, func(t *simulated) { fmt.Fprintln(os.Stderr, t) })
			if r.json {
				return printJSON(told)
			}
			fmt.Println(told)
			return told.failed
		})
	}
	return cmd
}

func (s *simulation) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.IntVar(&s.devices, "devices", demo.DefaultDevices, "how many devices")
	f.Float64Var(&s.rate, "rate", 0, "reports a second of all together (default: each every few seconds)")
	f.Float64Var(&s.late, "late", 2, "of a hundred reports, how many come late")
	f.Float64Var(&s.doubled, "doubled", 1, "of a hundred reports, how many come twice")
	f.Float64Var(
		&s.dropOuts, "drop-outs", 4, "of a hundred stretches of five minutes, in how many a device has no connection",
	)
	f.DurationVar(&s.past, "past", 0, "report this much of the past first, such as 2h")
	f.StringVar(&s.over, "over", "http", "how to send: http, ws (a WebSocket) or mqtt")
	f.StringVar(&s.mqtt, "mqtt", "127.0.0.1:8471", "with --over mqtt, where the service takes positions")
	f.DurationVar(&s.length, "for", 0, "how long to go on (default: until it is stopped)")
}

func (s *simulation) check() error {
	switch {
	case s.devices < 1 || s.devices > 100_000:
		return &usageError{fmt.Errorf("--devices %d: want 1 to 100000", s.devices)}
	case s.rate < 0 || s.rate > 1e6:
		return &usageError{fmt.Errorf("--rate %v: want more than 0", s.rate)}
	case s.over != "http" && s.over != "ws" && s.over != "mqtt":
		return &usageError{fmt.Errorf("--over %s: want http, ws or mqtt", s.over)}
	case s.past < 0 || s.past > 48*time.Hour:
		return &usageError{fmt.Errorf("--past %v: want up to 48h", s.past)}
	}
	for name, v := range map[string]float64{"late": s.late, "doubled": s.doubled, "drop-outs": s.dropOuts} {
		if v < 0 || v > 100 {
			return &usageError{fmt.Errorf("--%s %v: want 0 to 100", name, v)}
		}
	}
	return nil
}

// simulated is what has become of the reports of a simulation.
type simulated struct {
	Kept     int     `json:"kept"`
	Repeated int     `json:"repeated"`
	Refused  int     `json:"refused"`
	Seconds  float64 `json:"seconds"`
	failed   error
}

func (t *simulated) String() string {
	return fmt.Sprintf("%d kept, %d repeated, %d refused in %.0f s (%.0f a second).", t.Kept, t.Repeated, t.Refused,
		t.Seconds, float64(t.Kept)/math.Max(t.Seconds, 1))
}

// makeFleetGroups makes the groups and devices of a fleet that are not there yet.
func makeFleetGroups(ctx context.Context, c *client.Client, fleet *demo.Fleet) error {
	there, err := c.Groups(ctx)
	if err != nil {
		return err
	}
	has := map[string]bool{}
	for _, g := range there.Groups {
		has[g.ID] = true
	}
	for _, g := range demo.FleetGroups {
		if has[g.ID] {
			continue
		}
		guests := "nothing"
		if g.Guests {
			guests = "read"
		}
		_, err := c.CreateGroup(ctx, api.NewGroup{ID: g.ID, GroupUpdate: api.GroupUpdate{
			Title: &g.Title, Description: &g.Description, Icon: &g.Icon, Colour: &g.Colour, Guests: &guests,
			Settings: &api.GroupSettings{SilentAfter: g.SilentAfter},
		}})
		if err != nil && !isThere(err) {
			return err
		}
	}
	for _, d := range fleet.Devices() {
		_, err := c.CreateDevice(ctx, api.NewDevice{ID: d.ID, DeviceUpdate: api.DeviceUpdate{Name: &d.Name, Group: &d.Group}})
		if err != nil && !isThere(err) {
			return err
		}
	}
	return nil
}

// isThere reports whether something was not made as it is there already: another simulation may have made it meanwhile.
func isThere(err error) bool {
	var answered *client.Error
	return errors.As(err, &answered) && answered.Status == http.StatusConflict
}

// A pendingReport is a report that is sent at a time.
type pendingReport struct {
	at     time.Time
	device int
	report *api.Report // nil if it is to be made then
}

type pendingReports []pendingReport

// Len implements heap.Interface, as do the following.
func (p pendingReports) Len() int           { return len(p) }
func (p pendingReports) Less(i, j int) bool { return p[i].at.Before(p[j].at) }
func (p pendingReports) Swap(i, j int)      { p[i], p[j] = p[j], p[i] }

// Push adds a report.
func (p *pendingReports) Push(x any) { *p = append(*p, x.(pendingReport)) }

// Pop takes the last off.
func (p *pendingReports) Pop() any {
	last := (*p)[len(*p)-1]
	*p = (*p)[:len(*p)-1]
	return last
}

// run sends reports until ctx ends or the time is up. It tells what became of them now and then.
func (s *simulation) run(ctx context.Context, to sender, fleet *demo.Fleet, tell func(*simulated)) *simulated {
	told := &simulated{}
	if s.length > 0 {
		limited, cancel := context.WithTimeout(ctx, s.length)
		defer cancel()
		ctx = limited
	}
	devices := fleet.Devices()
	every := make([]time.Duration, len(devices))
	usual := 0.0
	for i, d := range devices {
		every[i] = d.Every
		usual += 1 / d.Every.Seconds()
	}
	if s.rate > 0 {
		for i := range every {
			every[i] = time.Duration(float64(every[i]) * usual / s.rate)
		}
	}
	var queue pendingReports
	began := time.Now()
	for i := range devices { // not all at once
		queue = append(queue, pendingReport{began.Add(every[i] * time.Duration(i%97) / 97), i, nil})
	}
	heap.Init(&queue)
	const tick, tellEvery = 100 * time.Millisecond, 10 * time.Second
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	next := began.Add(tellEvery)
	for {
		select {
		case <-ctx.Done():
			to.settle(told)
			told.Seconds = time.Since(began).Seconds()
			return told
		case <-ticker.C:
		}
		now := time.Now()
		var reports []api.Report
		for len(queue) > 0 && !queue[0].at.After(now) && len(reports) < 10_000 {
			p := heap.Pop(&queue).(pendingReport)
			if p.report != nil {
				reports = append(reports, *p.report)
				continue
			}
			heap.Push(&queue, pendingReport{p.at.Add(every[p.device]), p.device, nil})
			report := reportOf(fleet, &devices[p.device], p.device, p.at)
			switch trouble := fleet.Trouble(p.device, p.at, s.late, s.doubled, s.dropOuts); {
			case trouble.Lost:
			case trouble.Delay > 0:
				heap.Push(&queue, pendingReport{now.Add(trouble.Delay), p.device, &report})
			case trouble.Doubled:
				reports = append(reports, report, report)
			default:
				reports = append(reports, report)
			}
		}
		to.send(ctx, reports, told)
		if now.After(next) {
			told.Seconds = now.Sub(began).Seconds()
			tell(told)
			next = now.Add(tellEvery)
		}
	}
}

// sendPast reports where devices were before now.
func (s *simulation) sendPast(ctx context.Context, to sender, fleet *demo.Fleet, told *simulated) {
	if s.past == 0 {
		return
	}
	const pastEvery, together = 20 * time.Second, 5000
	devices := fleet.Devices()
	now := time.Now()
	var reports []api.Report
	for at := now.Add(-s.past).Truncate(pastEvery); at.Before(now); at = at.Add(pastEvery) {
		for i := range devices {
			if d := &devices[i]; d.Every <= pastEvery || at.Unix()%60 == 0 {
				if !fleet.Trouble(i, at, 0, 0, s.dropOuts).Lost {
					reports = append(reports, reportOf(fleet, d, i, at))
				}
			}
		}
		if len(reports) >= together {
			to.send(ctx, reports, told)
			reports = reports[:0]
		}
	}
	to.send(ctx, reports, told)
}

func reportOf(fleet *demo.Fleet, d *demo.FleetDevice, number int, at time.Time) api.Report {
	at = at.UTC().Truncate(time.Millisecond)
	fix := fleet.At(number, at)
	six := func(v float64) float64 { return math.Round(v*1e6) / 1e6 }
	tenth := func(v float64) *float64 { v = math.Round(v*10) / 10; return &v }
	out := api.Report{
		Device: d.ID, Latitude: six(fix.At.Lat), Longitude: six(fix.At.Lon), Timestamp: &at,
		Accuracy: tenth(fix.Accuracy), Speed: tenth(fix.Speed),
	}
	if !math.IsNaN(fix.Heading) {
		out.Heading = tenth(fix.Heading)
	}
	properties := map[string]any{"battery": fix.Battery, "signal": fix.Signal}
	if fix.Waves > 0 {
		properties["waves"] = fix.Waves
	}
	out.Properties, _ = json.Marshal(properties) // numbers can be encoded
	return out
}
