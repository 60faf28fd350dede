package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// fleetChannel is the channel on which it is told that groups or devices have changed.
const fleetChannel = "idlebeacon_fleet"

// Errors about groups and devices.
var (
	ErrNoGroup  = errors.New("store: there is no such group")
	ErrNoDevice = errors.New("store: there is no such device")
	ErrNotEmpty = errors.New("store: the group has devices")
)

// A Group is devices that are shown and shared together.
type Group struct {
	Key          int64
	ID           string
	Title        string
	Description  string
	Icon         string // that of its devices which have none; "" for the usual
	Colour       string // likewise
	Guests       string // what guests may: nothing or read
	GuestOrigins string // the origins of web pages from which they may, with spaces between
	Settings     GroupSettings
	KeepDays     *int // for how long positions are kept, 0 for good; nil for what the service is told
	CreatedAt    time.Time
	Gone         bool // it was taken out: only Key and ID count
}

// GroupSettings are the thresholds of a group, in metres per second and seconds; 0 for the usual.
type GroupSettings struct {
	MovingFrom, StillBelow, SilentAfter, Fastest, StopFrom float64
}

// A settingsRecord is settings as the database keeps them.
type settingsRecord struct {
	MovingFrom  float64 `json:"moving_from,omitempty"`
	StillBelow  float64 `json:"still_below,omitempty"`
	SilentAfter float64 `json:"silent_after,omitempty"`
	Fastest     float64 `json:"fastest,omitempty"`
	StopFrom    float64 `json:"stop_from,omitempty"`
}

// A Device is a thing that moves.
type Device struct {
	Key        int64
	ID         string
	GroupKey   int64
	Name       string
	Icon       string // "" for that of the group
	Colour     string // likewise
	Properties string // a JSON object
	PausedAt   *time.Time
	MadeBy     string // an actor
	CreatedAt  time.Time
	Gone       bool // it was taken out: only Key and ID count
}

type groupRow struct {
	Key          int64 `gorm:"primaryKey;autoIncrement"`
	ID           string
	Title        string
	Description  string
	Icon         string
	Colour       string
	Guests       string
	GuestOrigins string
	Settings     string
	KeepDays     *int
	CreatedAt    time.Time
	Version      int64
	GoneAt       *time.Time
}

// TableName is that of the table.
func (groupRow) TableName() string { return "device_groups" }

func (r *groupRow) group() (Group, error) {
	var settings settingsRecord
	if err := json.Unmarshal([]byte(r.Settings), &settings); err != nil {
		return Group{}, fmt.Errorf("the settings of group %q: %w", r.ID, err)
	}
	return Group{
		Key: r.Key, ID: r.ID, Title: r.Title, Description: r.Description, Icon: r.Icon, Colour: r.Colour,
		Guests: r.Guests, GuestOrigins: r.GuestOrigins, Settings: GroupSettings(settings), KeepDays: r.KeepDays,
		CreatedAt: r.CreatedAt, Gone: r.GoneAt != nil,
	}, nil
}

func rowOfGroup(g *Group, version int64) (*groupRow, error) {
	settings, err := json.Marshal(settingsRecord(g.Settings))
	return &groupRow{
		Key: g.Key, ID: g.ID, Title: g.Title, Description: g.Description, Icon: g.Icon, Colour: g.Colour,
		Guests: g.Guests, GuestOrigins: g.GuestOrigins, Settings: string(settings), KeepDays: g.KeepDays,
		CreatedAt: g.CreatedAt, Version: version,
	}, err
}

type deviceRow struct {
	Key        int64 `gorm:"primaryKey;autoIncrement"`
	ID         string
	GroupKey   int64
	Name       string
	Icon       string
	Colour     string
	Properties string
	PausedAt   *time.Time
	MadeBy     string
	CreatedAt  time.Time
	Version    int64
	GoneAt     *time.Time
}

// TableName is that of the table.
func (deviceRow) TableName() string { return "devices" }

func (r *deviceRow) device() Device {
	return Device{
		Key: r.Key, ID: r.ID, GroupKey: r.GroupKey, Name: r.Name, Icon: r.Icon, Colour: r.Colour,
		Properties: r.Properties, PausedAt: r.PausedAt, MadeBy: r.MadeBy, CreatedAt: r.CreatedAt, Gone: r.GoneAt != nil,
	}
}

func rowOfDevice(d *Device, version int64) *deviceRow {
	return &deviceRow{
		Key: d.Key, ID: d.ID, GroupKey: d.GroupKey, Name: d.Name, Icon: d.Icon, Colour: d.Colour,
		Properties: d.Properties, PausedAt: d.PausedAt, MadeBy: d.MadeBy, CreatedAt: d.CreatedAt, Version: version,
	}
}

// A Fleet is the groups and devices that have changed since a version.
type Fleet struct {
	Identity string // of the database
	Version  int64
	Groups   []Group
	Devices  []Device
}

// FleetSince returns what has changed of groups and devices after a version; 0 for all of them.
func (s *Store) FleetSince(ctx context.Context, version int64) (f Fleet, err error) {
	err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY").Error; err != nil {
			return err
		}
		err := tx.Raw("SELECT f.version, i.id::text FROM fleet f, identity i").Row().Scan(&f.Version, &f.Identity)
		if err != nil || f.Version == version {
			return err
		}
		changed := "version > ?"
		if version == 0 {
			changed += " AND gone_at IS NULL"
		}
		var groups []groupRow
		if err := tx.Where(changed, version).Order("key").Find(&groups).Error; err != nil {
			return err
		}
		for i := range groups {
			g, err := groups[i].group()
			if err != nil {
				return err
			}
			f.Groups = append(f.Groups, g)
		}
		var devices []deviceRow
		if err := tx.Where(changed, version).Order("key").Find(&devices).Error; err != nil {
			return err
		}
		for i := range devices {
			f.Devices = append(f.Devices, devices[i].device())
		}
		return nil
	})
	if err != nil {
		err = fmt.Errorf("reading the devices: %w", err)
	}
	return f, err
}

// ListenForFleet is Listen for changes of groups and devices.
func (s *Store) ListenForFleet(ctx context.Context, wake func()) {
	s.listen(ctx, fleetChannel, new(atomic.Bool), func(string) { wake() })
}

// changeFleet runs f in a transaction that no other of its kind runs beside, and tells all processes
// of it.
func (s *Store) changeFleet(ctx context.Context, f func(tx *gorm.DB, version int64) error) error {
	err := s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var version int64
		if err := tx.Raw("UPDATE fleet SET version = version + 1 RETURNING version").Row().Scan(&version); err != nil {
			return err
		}
		if err := f(tx, version); err != nil {
			return err
		}
		return tx.Exec("SELECT pg_notify(?, '')", fleetChannel).Error
	})
	var fromServer *pgconn.PgError
	if errors.As(err, &fromServer) && fromServer.Code == "23505" { // unique_violation
		return ErrExists
	}
	return err
}

// CreateGroup keeps a new group, whose Key and CreatedAt are given by the store, or returns ErrExists,
// or ErrTooMany if there are as many as may be.
func (s *Store) CreateGroup(ctx context.Context, g Group, most int) (Group, error) {
	err := s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		var there int
		err := tx.Raw("SELECT count(*) FROM device_groups WHERE gone_at IS NULL").Row().Scan(&there)
		if err != nil {
			return err
		}
		if there >= most {
			return ErrTooMany
		}
		g.Key, g.CreatedAt = 0, time.Now().UTC().Truncate(time.Microsecond)
		row, err := rowOfGroup(&g, version)
		if err != nil {
			return err
		}
		err = tx.Create(row).Error
		g.Key = row.Key
		return err
	})
	return g, err
}

// UpdateGroup changes a group with f, under a lock, or returns ErrNoGroup, or the error of f.
func (s *Store) UpdateGroup(ctx context.Context, id string, f func(*Group) error) (g Group, err error) {
	err = s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		var row groupRow
		err := tx.Where("id = ? AND gone_at IS NULL", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNoGroup
		}
		if err != nil {
			return err
		}
		if g, err = row.group(); err != nil {
			return err
		}
		if err := f(&g); err != nil {
			return err
		}
		now, err := rowOfGroup(&g, version)
		if err != nil {
			return err
		}
		return tx.Save(now).Error
	})
	return g, err
}

// DeleteGroup takes out a group that has no device, or returns ErrNoGroup or ErrNotEmpty.
func (s *Store) DeleteGroup(ctx context.Context, id string) error {
	return s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		var devices int
		err := tx.Raw("SELECT count(*) FROM devices d JOIN device_groups g ON g.key = d.group_key WHERE g.id = ? AND "+
			"g.gone_at IS NULL AND d.gone_at IS NULL", id).Row().Scan(&devices)
		switch {
		case err != nil:
			return err
		case devices > 0:
			return ErrNotEmpty
		}
		gone := tx.Exec("UPDATE device_groups SET gone_at = now(), version = ?, title = '', description = '' "+
			"WHERE id = ? AND gone_at IS NULL", version, id)
		if gone.Error == nil && gone.RowsAffected == 0 {
			return ErrNoGroup
		}
		return gone.Error
	})
}

// CreateDevices keeps new devices, all or none, but for those whose id is taken, which are left out of what
// it returns. Their Key and CreatedAt are given by the store. The groups have to be there: otherwise it
// returns ErrNoGroup. All devices are most at most: beyond, it returns ErrTooMany.
func (s *Store) CreateDevices(ctx context.Context, devices []Device, most int) (made []Device, err error) {
	err = s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		made = nil
		var there int
		if err := tx.Raw("SELECT count(*) FROM devices WHERE gone_at IS NULL").Row().Scan(&there); err != nil {
			return err
		}
		if there+len(devices) > most {
			return ErrTooMany
		}
		now := time.Now().UTC().Truncate(time.Microsecond)
		n := len(devices)
		groups, paused := make([]int64, n), make([]*time.Time, n)
		var texts [6][]string
		for k := range texts {
			texts[k] = make([]string, n)
		}
		byID := make(map[string]*Device, n)
		for i := range devices {
			d := &devices[i]
			groups[i], paused[i], byID[d.ID] = d.GroupKey, d.PausedAt, d
			for k, text := range [...]string{d.ID, d.Name, d.Icon, d.Colour, d.Properties, d.MadeBy} {
				texts[k][i] = text
			}
		}
		var missing int
		err := tx.Raw(`SELECT count(*) FROM (SELECT DISTINCT key FROM unnest(?::bigint[]) AS g (key)) g WHERE NOT EXISTS
			(SELECT FROM device_groups d WHERE d.key = g.key AND d.gone_at IS NULL)`, array[int64](groups)).Row().Scan(&missing)
		if err != nil {
			return err
		}
		if missing > 0 {
			return ErrNoGroup
		}
		rows, err := tx.Raw(`
			INSERT INTO devices (id, group_key, name, icon, colour, properties, paused_at, made_by, created_at, version)
			SELECT g.id, g.group_key, g.name, g.icon, g.colour, g.properties::json, g.paused_at, g.made_by, ?, ?
			FROM unnest(?::text[], ?::bigint[], ?::text[], ?::text[], ?::text[], ?::text[], ?::timestamptz[], ?::text[])
				AS g (id, group_key, name, icon, colour, properties, paused_at, made_by)
			ON CONFLICT (id) WHERE gone_at IS NULL DO NOTHING RETURNING key, id`, now, version, array[string](texts[0]),
			array[int64](groups), array[string](texts[1]), array[string](texts[2]), array[string](texts[3]),
			array[string](texts[4]), array[*time.Time](paused), array[string](texts[5])).Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var key int64
			var id string
			if err := rows.Scan(&key, &id); err != nil {
				return err
			}
			d := *byID[id]
			d.Key, d.CreatedAt = key, now
			made = append(made, d)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		return nil
	})
	return made, err
}

// UpdateDevice changes a device with f, under a lock, or returns ErrNoDevice, or the error of f.
func (s *Store) UpdateDevice(ctx context.Context, id string, f func(*Device) error) (d Device, err error) {
	err = s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		var row deviceRow
		err := tx.Where("id = ? AND gone_at IS NULL", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNoDevice
		}
		if err != nil {
			return err
		}
		d = row.device()
		if err := f(&d); err != nil {
			return err
		}
		return tx.Save(rowOfDevice(&d, version)).Error
	})
	return d, err
}

// DeleteDevice takes out a device with all its positions and notices, for good, or returns ErrNoDevice.
func (s *Store) DeleteDevice(ctx context.Context, id string) error {
	return s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		var keys []int64
		err := tx.Raw(`UPDATE devices SET gone_at = now(), version = ?, name = '', icon = '', colour = '', properties = '{}',
			made_by = '' WHERE id = ? AND gone_at IS NULL RETURNING key`, version, id).Scan(&keys).Error
		if err != nil {
			return err
		}
		if len(keys) == 0 {
			return ErrNoDevice
		}
		if err := forgetNotices(tx, keys[0], math.MinInt64, math.MaxInt64); err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM watch_flags WHERE ? IN (device_key, other_key)", keys[0]).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM positions WHERE device_key = ?", keys[0]).Error
	})
}
