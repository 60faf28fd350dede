package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
)

// watchChannel is the channel on which it is told that watches or hooks have changed, or something was noticed.
const watchChannel = "idlebeacon_watches"

// noticedPayload says that something was noticed, and nothing else has changed.
const noticedPayload = "noticed"

// Errors about watches.
var (
	ErrNoWatch = errors.New("store: there is no such watch")
	ErrNotHeld = errors.New("store: another process watches now")
)

// A Watch is a rule by which devices are noticed.
type Watch struct {
	Key         int64
	ID          string
	Title       string
	Description string
	Rule        watch.Rule
	Off         bool
	MadeBy      string // an actor
	CreatedAt   time.Time
}

// A ruleRecord is a rule as the database keeps it. Times are in seconds, distances in metres.
type ruleRecord struct {
	Groups        []string     `json:"groups,omitempty"`
	Devices       []string     `json:"devices,omitempty"`
	Where         *whereRecord `json:"where,omitempty"`
	Notices       []string     `json:"notices"`
	StayedFor     float64      `json:"stayed_for,omitempty"`
	SilentFor     float64      `json:"silent_for,omitempty"`
	FasterThan    float64      `json:"faster_than,omitempty"`
	NearerThan    float64      `json:"nearer_than,omitempty"`
	Margin        float64      `json:"margin"`
	WorstAccuracy float64      `json:"worst_accuracy"`
	States        []string     `json:"states,omitempty"`
	Filter        string       `json:"filter,omitempty"`
	Hours         *hoursRecord `json:"hours,omitempty"`
}

type whereRecord struct {
	Collection string       `json:"collection,omitempty"`
	Item       string       `json:"item,omitempty"`
	At         *pointRecord `json:"at,omitempty"`
	Device     string       `json:"device,omitempty"`
	Radius     float64      `json:"radius,omitempty"`
}

type pointRecord struct {
	Lon float64 `json:"lon"`
	Lat float64 `json:"lat"`
}

type hoursRecord struct {
	From int    `json:"from"` // minutes after midnight
	To   int    `json:"to"`
	Days []int  `json:"days,omitempty"` // 0 for Sunday
	Zone string `json:"zone"`
}

func recordOfRule(r *watch.Rule) ruleRecord {
	out := ruleRecord{
		Groups: r.Groups, Devices: r.Devices, StayedFor: r.StayedFor.Seconds(), SilentFor: r.SilentFor.Seconds(),
		FasterThan: r.FasterThan, NearerThan: r.NearerThan, Margin: r.Margin, WorstAccuracy: r.WorstAccuracy,
	}
	if w := r.Where; w != nil {
		out.Where = &whereRecord{Collection: w.Collection, Item: w.Item, Device: w.Device, Radius: w.Radius}
		if w.At != nil {
			out.Where.At = &pointRecord{Lon: w.At.Lon, Lat: w.At.Lat}
		}
	}
	for _, k := range r.Notices {
		out.Notices = append(out.Notices, string(k))
	}
	for _, s := range r.States {
		out.States = append(out.States, s.String())
	}
	if r.Filter != nil {
		out.Filter = r.Filter.String()
	}
	if h := r.Hours; h != nil {
		out.Hours = &hoursRecord{From: h.From, To: h.To, Zone: h.Zone.String()}
		for _, d := range h.Days {
			out.Hours.Days = append(out.Hours.Days, int(d))
		}
	}
	return out
}

func (r *ruleRecord) rule() (watch.Rule, error) {
	seconds := func(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
	out := watch.Rule{
		Groups: r.Groups, Devices: r.Devices, StayedFor: seconds(r.StayedFor), SilentFor: seconds(r.SilentFor),
		FasterThan: r.FasterThan, NearerThan: r.NearerThan, Margin: r.Margin, WorstAccuracy: r.WorstAccuracy,
	}
	if w := r.Where; w != nil {
		out.Where = &watch.Where{Collection: w.Collection, Item: w.Item, Device: w.Device, Radius: w.Radius}
		if w.At != nil {
			out.Where.At = &geo.Point{Lon: w.At.Lon, Lat: w.At.Lat}
		}
	}
	for _, k := range r.Notices {
		out.Notices = append(out.Notices, watch.Kind(k))
	}
	for _, name := range r.States {
		s, err := motion.ParseState(name)
		if err != nil {
			return out, err
		}
		out.States = append(out.States, s)
	}
	if r.Filter != "" {
		f, err := filter.Parse(r.Filter)
		if err != nil {
			return out, err
		}
		out.Filter = f
	}
	if h := r.Hours; h != nil {
		zone, err := time.LoadLocation(h.Zone)
		if err != nil {
			return out, err
		}
		out.Hours = &watch.Hours{From: h.From, To: h.To, Zone: zone}
		for _, d := range h.Days {
			out.Hours.Days = append(out.Hours.Days, time.Weekday(d))
		}
	}
	return out, nil
}

type watchRow struct {
	Key         int64 `gorm:"primaryKey;autoIncrement"`
	ID          string
	Title       string
	Description string
	Rule        string
	Off         bool
	MadeBy      string
	CreatedAt   time.Time
	Version     int64 // of all watches and hooks, after its newest change
}

// TableName is that of the table.
func (watchRow) TableName() string { return "watches" }

func (r *watchRow) watch() (Watch, error) {
	w := Watch{
		Key: r.Key, ID: r.ID, Title: r.Title, Description: r.Description, Off: r.Off, MadeBy: r.MadeBy,
		CreatedAt: r.CreatedAt,
	}
	var record ruleRecord
	err := json.Unmarshal([]byte(r.Rule), &record)
	if err == nil {
		w.Rule, err = record.rule()
	}
	if err != nil {
		err = fmt.Errorf("the rule of watch %q: %w", r.ID, err)
	}
	return w, err
}

func rowOfWatch(w *Watch) (*watchRow, error) {
	rule, err := json.Marshal(recordOfRule(&w.Rule))
	return &watchRow{
		Key: w.Key, ID: w.ID, Title: w.Title, Description: w.Description, Rule: string(rule), Off: w.Off,
		MadeBy: w.MadeBy, CreatedAt: w.CreatedAt,
	}, err
}

// Watches returns all watches in the order of their ids.
func (s *Store) Watches(ctx context.Context) ([]Watch, error) {
	return watchesOf(s.reserved.WithContext(ctx).Order("id"))
}

// WatchesSince returns the watches that were made or changed after a version, and the keys of all that are not off.
func (s *Store) WatchesSince(ctx context.Context, version int64) (changed []Watch, on []int64, err error) {
	if err := s.reserved.WithContext(ctx).Raw("SELECT key FROM watches WHERE NOT off").Scan(&on).Error; err != nil {
		return nil, nil, fmt.Errorf("reading which watches there are: %w", err)
	}
	changed, err = watchesOf(s.reserved.WithContext(ctx).Where("version > ?", version))
	return changed, on, err
}

func watchesOf(query *gorm.DB) (all []Watch, err error) {
	var rows []watchRow
	if err := query.Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the watches: %w", err)
	}
	for i := range rows {
		w, err := rows[i].watch()
		if err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, nil
}

// ListenForWatches is Listen for what is noticed, and for changes of watches and hooks.
func (s *Store) ListenForWatches(ctx context.Context, noticed, changed func()) {
	s.listen(ctx, watchChannel, new(atomic.Bool), func(payload string) {
		if payload != noticedPayload { // or something may have been missed
			changed()
		}
		noticed()
	})
}

// changeWatches runs f in a transaction that no other of its kind runs beside, with the version that watches and hooks
// have after it, and tells all processes of it.
func (s *Store) changeWatches(ctx context.Context, f func(tx *gorm.DB, version int64) error) error {
	err := s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var version int64
		if err := tx.Raw("UPDATE watching SET version = version + 1 RETURNING version").Row().Scan(&version); err != nil {
			return err
		}
		if err := f(tx, version); err != nil {
			return err
		}
		return tx.Exec("SELECT pg_notify(?, '')", watchChannel).Error
	})
	if codeOf(err) == "23505" { // unique_violation
		return ErrExists
	}
	return err
}

// MaxWatchBytes is how many bytes all watches may have together, as the database keeps them.
const MaxWatchBytes = 32 << 20

// roomForWatches returns ErrTooMany if there are more watches than may be, or they are too large together.
func roomForWatches(tx *gorm.DB, most int) error {
	var there, bytes int
	err := tx.Raw(`SELECT count(*), coalesce(sum(octet_length(title) + octet_length(description) +
		octet_length(rule::text)), 0) FROM watches`).Row().Scan(&there, &bytes)
	if err == nil && (there > most || bytes > MaxWatchBytes) {
		err = ErrTooMany
	}
	return err
}

// CreateWatch keeps a new watch, whose Key and CreatedAt are given by the store, or returns ErrExists, or
// ErrTooMany if there are as many as may be, or all are too large.
func (s *Store) CreateWatch(ctx context.Context, w Watch, most int) (Watch, error) {
	err := s.changeWatches(ctx, func(tx *gorm.DB, version int64) error {
		w.Key, w.CreatedAt = 0, time.Now().UTC().Truncate(time.Microsecond)
		row, err := rowOfWatch(&w)
		if err != nil {
			return err
		}
		row.Version = version
		if err := tx.Create(row).Error; err != nil {
			return err
		}
		w.Key = row.Key
		return roomForWatches(tx, most)
	})
	return w, err
}

// UpdateWatch changes a watch with f, under a lock, or returns ErrNoWatch, or ErrTooMany if all are too large then.
func (s *Store) UpdateWatch(ctx context.Context, id string, f func(*Watch)) (w Watch, err error) {
	err = s.changeWatches(ctx, func(tx *gorm.DB, version int64) error {
		var row watchRow
		err := tx.Where("id = ?", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNoWatch
		}
		if err != nil {
			return err
		}
		if w, err = row.watch(); err != nil {
			return err
		}
		before := recordOfRule(&w.Rule).Where
		f(&w)
		now, err := rowOfWatch(&w)
		if err != nil {
			return err
		}
		if !reflect.DeepEqual(before, recordOfRule(&w.Rule).Where) || w.Off { // what is known of devices is of another area
			if err := tx.Exec("DELETE FROM watch_flags WHERE watch_key = ?", w.Key).Error; err != nil {
				return err
			}
		}
		now.Version = version
		if err := tx.Save(now).Error; err != nil {
			return err
		}
		return roomForWatches(tx, math.MaxInt)
	})
	return w, err
}

// DeleteWatch takes out a watch, or returns ErrNoWatch. What it noticed stays.
func (s *Store) DeleteWatch(ctx context.Context, id string) error {
	return s.changeWatches(ctx, func(tx *gorm.DB, _ int64) error {
		gone := tx.Exec("DELETE FROM watches WHERE id = ?", id)
		if gone.Error == nil && gone.RowsAffected == 0 {
			return ErrNoWatch
		}
		return gone.Error
	})
}

// A Duty is watching, as one process has it at a time.
type Duty struct {
	Held      bool          // this process has it
	Epoch     int64         // greater each time another process takes it
	Judged    motion.Moment // positions that were received before have been judged; 0 if there were none
	Listening motion.Moment // nobody could hear of devices before
}

// HoldDuty takes the duty of watching for a time, or keeps it, unless another process has it.
func (s *Store) HoldDuty(ctx context.Context, process string, length time.Duration) (d Duty, err error) {
	ctx, cancel := context.WithTimeout(ctx, stateTimeout)
	defer cancel()
	err = s.reserved.WithContext(ctx).Raw(`WITH held AS (
			UPDATE watching SET holder = ?, held_until = now() + make_interval(secs => ?),
				epoch = epoch + CASE WHEN holder = ? THEN 0 ELSE 1 END
			WHERE holder = ? OR held_until < now() RETURNING true AS held, epoch, judged, listening)
		SELECT * FROM held UNION ALL
		SELECT false, epoch, judged, listening FROM watching WHERE NOT EXISTS (SELECT FROM held)`,
		process, length.Seconds(), process, process).
		Row().Scan(&d.Held, &d.Epoch, &d.Judged, &d.Listening)
	if err != nil {
		err = fmt.Errorf("looking for who watches: %w", err)
	}
	return d, err
}

// LeaveDuty ends the duty of a process, so that another can take it at once.
func (s *Store) LeaveDuty(ctx context.Context, process string) error {
	return s.reserved.WithContext(ctx).Exec("UPDATE watching SET held_until = now() WHERE holder = ?", process).Error
}

// Judged notes how far positions have been judged and since when they have been heard of, and forgets some
// flags. If the duty is another's since the epoch, it returns ErrNotHeld.
func (s *Store) Judged(ctx context.Context, epoch int64, judged, listening motion.Moment, gone []watch.FlagKey) error {
	return s.onDuty(ctx, epoch, func(tx *gorm.DB) error {
		if err := deleteFlags(tx, gone); err != nil {
			return err
		}
		return tx.Exec("UPDATE watching SET judged = ?, listening = ?", int64(judged), int64(listening)).Error
	})
}

// deleteFlags forgets flags that are not set.
func deleteFlags(tx *gorm.DB, gone []watch.FlagKey) error {
	if len(gone) == 0 {
		return nil
	}
	var keys [3][]int64
	conditions := make([]string, len(gone))
	for i, k := range gone {
		keys[0], keys[1], keys[2] = append(keys[0], k.Rule), append(keys[1], k.Device), append(keys[2], k.Other)
		conditions[i] = string(k.Condition)
	}
	return tx.Exec(`DELETE FROM watch_flags f USING unnest(?::bigint[], ?::bigint[], ?::bigint[], ?::text[])
		AS g (watch_key, device_key, other_key, condition) WHERE f.watch_key = g.watch_key AND f.device_key = g.device_key AND
		f.other_key = g.other_key AND f.condition = g.condition AND NOT f.is_on`,
		array[int64](keys[0]), array[int64](keys[1]), array[int64](keys[2]), array[string](conditions)).Error
}

// onDuty runs f in a transaction, if the duty of watching is that of an epoch.
func (s *Store) onDuty(ctx context.Context, epoch int64, f func(tx *gorm.DB) error) error {
	return s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var now int64
		if err := tx.Raw("SELECT epoch FROM watching FOR UPDATE").Row().Scan(&now); err != nil {
			return err
		}
		if now != epoch {
			return ErrNotHeld
		}
		return f(tx)
	})
}

// Flags returns what is known of watches and devices.
func (s *Store) Flags(ctx context.Context) (all []watch.Flag, err error) {
	rows, err := s.reserved.WithContext(ctx).
		Raw("SELECT watch_key, device_key, other_key, condition, is_on, told, at, since FROM watch_flags").Rows()
	if err != nil {
		return nil, fmt.Errorf("reading the flags of watches: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var f watch.Flag
		if err := rows.Scan(&f.Rule, &f.Device, &f.Other, &f.Condition, &f.On, &f.Told, &f.At, &f.Since); err != nil {
			return nil, err
		}
		all = append(all, f)
	}
	return all, rows.Err()
}

// PositionsBefore calls yield with the newest positions of every device that were received before a moment, at most so
// many of each, the oldest of a device first.
func (s *Store) PositionsBefore(
	ctx context.Context, received motion.Moment, each int, yield func(DevicePosition),
) error {
	return s.eachPosition(s.reserved.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM devices d CROSS JOIN LATERAL (
		SELECT * FROM (SELECT * FROM positions q WHERE q.device_key = d.key AND q.received < ? ORDER BY q.time DESC LIMIT ?) n
		ORDER BY n.time) p WHERE d.gone_at IS NULL`, int64(received), each),
		func(p DevicePosition) bool { yield(p); return true })
}

// WatchVersion returns a number that is greater after every change to a watch or a hook.
func (s *Store) WatchVersion(ctx context.Context) (version int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, stateTimeout)
	defer cancel()
	return version, s.reserved.WithContext(ctx).Raw("SELECT version FROM watching").Row().Scan(&version)
}

// ForgetFlags forgets what is known of a watch and its devices. If the duty is another's since the epoch, it returns
// ErrNotHeld.
func (s *Store) ForgetFlags(ctx context.Context, epoch, watch int64) error {
	return s.onDuty(ctx, epoch, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM watch_flags WHERE watch_key = ?", watch).Error
	})
}

// WatchByID returns the watch with an id, or ErrNoWatch.
func (s *Store) WatchByID(ctx context.Context, id string) (Watch, error) {
	var row watchRow
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrNoWatch
	}
	if err != nil {
		return Watch{}, err
	}
	return row.watch()
}
