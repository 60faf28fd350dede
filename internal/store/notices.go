package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
)

// A Notice is one thing that a watch noticed.
type Notice struct {
	Number    int64 // greater than those of the notices before
	Watch     string
	Title     string // of the watch then
	Device    string // ids
	Group     string
	Other     string // the id of the device that it is near to, or whose circle it is; "" for none
	OtherIn   string // the group of that
	NoticedAt time.Time
	Event     watch.Event
}

// WriteNotices keeps what was noticed and the flags that have changed with it, as one, and makes a delivery of each
// for the hooks that ask for it. What is kept already is left out. If the duty is another's since the epoch, it
// returns ErrNotHeld. Watches and devices that are gone are passed over.
func (s *Store) WriteNotices(ctx context.Context, epoch int64, events []watch.Event, flags []watch.Flag) error {
	err := s.onDuty(ctx, epoch, func(tx *gorm.DB) error {
		if err := writeFlags(tx, flags); err != nil || len(events) == 0 {
			return err
		}
		n := len(events)
		var keys [5][]int64
		for k := range keys {
			keys[k] = make([]int64, n)
		}
		kinds, lon, lat, speed := make([]string, n), make([]float64, n), make([]float64, n), make([]float32, n)
		for i := range events {
			e := &events[i]
			for k, v := range [...]int64{e.Rule, e.Device, e.Other, int64(e.Time), int64(e.Since)} {
				keys[k][i] = v
			}
			kinds[i], lon[i], lat[i], speed[i] = string(e.Kind), e.At.Lon, e.At.Lat, e.Speed
		}
		const insert = `WITH told AS (
			SELECT w.key, w.id, w.title, g.* FROM unnest(?::bigint[], ?::bigint[], ?::bigint[], ?::bigint[], ?::bigint[],
				?::text[], ?::float8[], ?::float8[], ?::real[]) WITH ORDINALITY
				AS g (watch_key, device_key, other_key, time, since, kind, lon, lat, speed, place)
			JOIN watches w ON w.key = g.watch_key JOIN devices d ON d.key = g.device_key AND d.gone_at IS NULL
			WHERE NOT EXISTS (SELECT FROM notices n WHERE n.watch_key = g.watch_key AND n.device_key = g.device_key AND
				n.other_key = g.other_key AND n.kind = g.kind AND n.time = g.time)
		), kept AS (
			INSERT INTO notices (number, watch_key, watch, title, device_key, other_key, kind, time, since, noticed_at, lon, lat,
				speed)
			SELECT (SELECT notices FROM watching) + row_number() OVER (ORDER BY t.place), t.key, t.id, t.title, t.device_key,
				t.other_key, t.kind, t.time, t.since, now(), t.lon, t.lat, nullif(t.speed, 'NaN') FROM told t
			ON CONFLICT (watch_key, device_key, other_key, kind, time) DO NOTHING
			RETURNING number, watch, device_key, kind
		), deliveries AS (
			INSERT INTO deliveries (hook_key, notice) SELECT h.key, k.number FROM kept k
			JOIN devices d ON d.key = k.device_key JOIN device_groups g ON g.key = d.group_key
			JOIN hooks h ON h.notices AND NOT h.off AND (h.groups IS NULL OR jsonb_exists(h.groups, g.id)) AND
				(h.watches IS NULL OR jsonb_exists(h.watches, k.watch)) AND (h.kinds IS NULL OR jsonb_exists(h.kinds, k.kind))
			ORDER BY k.number
		) SELECT coalesce(max(number), 0) FROM kept`
		var newest int64
		err := tx.Raw(insert, array[int64](keys[0]), array[int64](keys[1]), array[int64](keys[2]), array[int64](keys[3]),
			array[int64](keys[4]), array[string](kinds), array[float64](lon), array[float64](lat), array[float32](speed)).
			Row().Scan(&newest)
		if err != nil || newest == 0 {
			return err
		}
		if err := tx.Exec("UPDATE watching SET notices = ?", newest).Error; err != nil {
			return err
		}
		return tx.Exec("SELECT pg_notify(?, ?)", watchChannel, noticedPayload).Error
	})
	if err != nil {
		err = fmt.Errorf("keeping notices: %w", err)
	}
	return err
}

func writeFlags(tx *gorm.DB, flags []watch.Flag) error {
	if len(flags) == 0 {
		return nil
	}
	n := len(flags)
	var keys [5][]int64
	for k := range keys {
		keys[k] = make([]int64, n)
	}
	conditions, on, told := make([]string, n), make([]bool, n), make([]bool, n)
	for i := range flags {
		f := &flags[i]
		for k, v := range [...]int64{f.Rule, f.Device, f.Other, int64(f.At), int64(f.Since)} {
			keys[k][i] = v
		}
		conditions[i], on[i], told[i] = string(f.Condition), f.On, f.Told
	}
	return tx.Exec(`INSERT INTO watch_flags (watch_key, device_key, other_key, at, since, condition, is_on, told)
		SELECT g.* FROM unnest(?::bigint[], ?::bigint[], ?::bigint[], ?::bigint[], ?::bigint[], ?::text[], ?::boolean[],
			?::boolean[]) AS g (watch_key, device_key, other_key, at, since, condition, is_on, told)
		JOIN watches w ON w.key = g.watch_key
		ON CONFLICT (watch_key, device_key, other_key, condition) DO UPDATE SET at = excluded.at, since = excluded.since,
			is_on = excluded.is_on, told = excluded.told`,
		array[int64](keys[0]), array[int64](keys[1]), array[int64](keys[2]), array[int64](keys[3]), array[int64](keys[4]),
		array[string](conditions), array[bool](on), array[bool](told)).Error
}

// A NoticeQuery asks for notices.
type NoticeQuery struct {
	Groups        []int64  // keys of the groups whose devices may be told of
	Devices       []int64  // keys of the devices that may be told of; nil for all of the groups
	Own           []int64  // keys of devices that are told of though they do not share where they are
	InGroups      []string // ids; nil for all
	OfDevices     []string // ids of devices, one of which it has to be about; nil for all
	Watches       []string
	Kinds         []string
	From, To      motion.Moment // both included
	Before, After int64         // numbers; 0 for no end
	Ascending     bool
	Limit         int
}

// Notices returns notices, the newest first, or if Ascending is set the oldest first.
func (s *Store) Notices(ctx context.Context, q NoticeQuery) (all []Notice, err error) {
	var where strings.Builder
	where.WriteString(`g.key = ANY(?::bigint[]) AND (o.key IS NULL AND n.other_key = 0 OR og.key = ANY(?::bigint[])) AND
		n.time BETWEEN ? AND ? AND (d.paused_at IS NULL OR d.key = ANY(?::bigint[])) AND
		(o.paused_at IS NULL OR o.key = ANY(?::bigint[]))`)
	args := []any{array[int64](q.Groups), array[int64](q.Groups), int64(q.From), int64(q.To), array[int64](q.Own),
		array[int64](q.Own)}
	if q.Devices != nil {
		where.WriteString(" AND d.key = ANY(?::bigint[]) AND (n.other_key = 0 OR o.key = ANY(?::bigint[]))")
		args = append(args, array[int64](q.Devices), array[int64](q.Devices))
	}
	if q.InGroups != nil {
		where.WriteString(" AND g.id = ANY(?::text[])")
		args = append(args, array[string](q.InGroups))
	}
	if q.OfDevices != nil {
		where.WriteString(" AND (d.id = ANY(?::text[]) OR o.id = ANY(?::text[]))")
		args = append(args, array[string](q.OfDevices), array[string](q.OfDevices))
	}
	if q.Watches != nil {
		where.WriteString(" AND n.watch = ANY(?::text[])")
		args = append(args, array[string](q.Watches))
	}
	if q.Kinds != nil {
		where.WriteString(" AND n.kind = ANY(?::text[])")
		args = append(args, array[string](q.Kinds))
	}
	if q.Before != 0 {
		where.WriteString(" AND n.number < ?")
		args = append(args, q.Before)
	}
	if q.After != 0 {
		where.WriteString(" AND n.number > ?")
		args = append(args, q.After)
	}
	order := "DESC"
	if q.Ascending {
		order = "ASC"
	}
	return s.notices(
		s.db.WithContext(ctx), where.String()+" ORDER BY n.number "+order+" LIMIT ?",
		append(args, q.Limit)...)
}

// LastNotice returns the number of the newest notice, 0 if there never was one.
func (s *Store) LastNotice(ctx context.Context) (number int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, stateTimeout)
	defer cancel()
	return number, s.reserved.WithContext(ctx).Raw("SELECT notices FROM watching").Row().Scan(&number)
}

// NoticesAfter returns the notices after a number, oldest first, whoever may see them.
func (s *Store) NoticesAfter(ctx context.Context, number int64, limit int) ([]Notice, error) {
	return s.notices(s.reserved.WithContext(ctx), "n.number > ? ORDER BY n.number LIMIT ?", number, limit)
}

// NoticesOf returns the notices about a device, oldest first.
func (s *Store) NoticesOf(ctx context.Context, device int64, limit int) ([]Notice, error) {
	return s.notices(s.db.WithContext(ctx), "n.device_key = ? ORDER BY n.number LIMIT ?", device, limit)
}

func (s *Store) notices(db *gorm.DB, where string, args ...any) (all []Notice, err error) {
	rows, err := db.Raw(`SELECT n.number, n.watch_key, n.watch, n.title, n.device_key, d.id, g.id, n.other_key,
		coalesce(o.id, ''), coalesce(og.id, ''), n.kind, n.time, n.since, n.noticed_at, n.lon, n.lat, n.speed FROM notices n
		JOIN devices d ON d.key = n.device_key JOIN device_groups g ON g.key = d.group_key
		LEFT JOIN devices o ON n.other_key <> 0 AND o.key = n.other_key LEFT JOIN device_groups og ON og.key = o.group_key
		WHERE d.gone_at IS NULL AND (n.other_key = 0 OR o.gone_at IS NULL) AND `+where, args...).Rows()
	if err != nil {
		return nil, fmt.Errorf("reading notices: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var n Notice
		e := &n.Event
		var at geo.Point
		var speed *float32
		err := rows.Scan(&n.Number, &e.Rule, &n.Watch, &n.Title, &e.Device, &n.Device, &n.Group, &e.Other,
			&n.Other, &n.OtherIn, &e.Kind, &e.Time, &e.Since, &n.NoticedAt, &at.Lon, &at.Lat, &speed)
		if err != nil {
			return nil, fmt.Errorf("reading notices: %w", err)
		}
		e.At = at
		if e.Speed = motion.Unknown; speed != nil {
			e.Speed = *speed
		}
		all = append(all, n)
	}
	return all, rows.Err()
}

// forgetNotices takes out what was noticed of a device from one moment to another.
func forgetNotices(tx *gorm.DB, device int64, from, to motion.Moment) error {
	return tx.Exec("DELETE FROM notices WHERE (device_key = ? OR other_key = ?) AND time BETWEEN ? AND ?", device, device,
		int64(from), int64(to)).Error
}
