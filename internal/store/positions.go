package store

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/pgcopy"
)

// A DevicePosition is a position with the key of its device.
type DevicePosition struct {
	Device int64
	motion.Position
}

// positionColumns are the columns of a position, from the table of positions as p.
const positionColumns = `p.device_key, p.time, p.received, p.lon, p.lat, p.accuracy, p.altitude, p.altitude_accuracy,
	p.heading, p.speed, p.properties`

// WritePositions keeps positions, none of which has the device and the time of another, in the database of
// an identity, or returns ErrMoved. The version is that of the devices as the caller knows them. It returns those
// that were not there before, and are not of devices that were taken out, by their numbers.
func (s *Store) WritePositions(ctx context.Context, identity string, version int64, all []DevicePosition) (
	fresh []int, err error,
) {
	for range 2 {
		for i := range all {
			if err := s.makeMonth(ctx, monthOf(all[i].Time)); err != nil {
				return nil, fmt.Errorf("making room for positions: %w", err)
			}
		}
		fresh, err = s.copyPositions(ctx, identity, version, all)
		if codeOf(err) == "23505" || errors.Is(err, errOtherVersion) { // unique_violation
			fresh, err = s.writePositions(ctx, identity, all)
		}
		if code := codeOf(err); code != "23514" && code != "42P01" { // check_violation, undefined_table
			break
		}
		s.months.Clear() // another process has dropped one
	}
	return fresh, err
}

// codeOf returns the code with which the server refuses something, "" if it does not.
func codeOf(err error) string {
	var fromServer *pgconn.PgError
	if errors.As(err, &fromServer) {
		return fromServer.Code
	}
	return ""
}

var errOtherVersion = errors.New("store: devices have changed")

// copyPositions keeps positions if all of them are new, and the devices are those of a version. It costs half of what
// writePositions does.
func (s *Store) copyPositions(ctx context.Context, identity string, version int64, all []DevicePosition) (
	fresh []int, err error,
) {
	pool, err := s.reserved.DB()
	if err != nil {
		return nil, err
	}
	var rows bytes.Buffer
	var fields []byte
	month := monthOf(all[0].Time)
	table := month.table() // the server need not find that of each row
	for _, i := range inOrder(all) {
		p := &all[i]
		if monthOf(p.Time) != month {
			table = "positions"
		}
		fields = pgcopy.AppendInt(pgcopy.AppendInt(pgcopy.AppendInt(fields[:0], p.Device), int64(p.Time)), int64(p.Received))
		fields = pgcopy.AppendFloat(pgcopy.AppendFloat(fields, p.At.Lon), p.At.Lat)
		for _, v := range [...]float32{p.Accuracy, p.Altitude, p.AltitudeAccuracy, p.Heading, p.Speed} {
			if motion.Known(v) {
				fields = pgcopy.AppendSingle(fields, v)
			} else {
				fields = pgcopy.AppendNull(fields)
			}
		}
		if p.Properties == nil {
			fields = pgcopy.AppendNull(fields)
		} else {
			fields = pgcopy.AppendBytes(fields, p.Properties)
		}
		if err := pgcopy.WriteRow(&rows, fields); err != nil {
			return nil, err
		}
	}
	finished := false
	err = pgcopy.On(ctx, pool, func(conn *pgx.Conn) error {
		return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
			var same, current bool
			err := tx.QueryRow(ctx, "SELECT i.id::text = $1, f.version = $2 FROM identity i, fleet f", identity, version).
				Scan(&same, &current)
			switch {
			case err != nil:
				return err
			case !same:
				return ErrMoved
			case !current:
				return errOtherVersion
			}
			const positionFields = 11
			_, err = pgcopy.Rows{From: &rows, Fields: positionFields}.Into(ctx, conn, table,
				"device_key, time, received, lon, lat, accuracy, altitude, altitude_accuracy, heading, speed, properties")
			finished = err == nil
			return err
		})
	})
	switch {
	case err == nil:
		for i := range all {
			fresh = append(fresh, i)
		}
		return fresh, nil
	case finished && TroubleOf(err) == Unavailable:
		return nil, fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
	}
	return nil, err
}

// inOrder returns the numbers of positions in the order of their keys, so that two who write some of the same wait for
// one another and not each for the other.
func inOrder(all []DevicePosition) []int {
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(i, j int) int {
		a, b := &all[i], &all[j]
		return cmp.Or(cmp.Compare(a.Device, b.Device), cmp.Compare(a.Time, b.Time))
	})
	return order
}

// writePositions is WritePositions if there are tables of their months.
func (s *Store) writePositions(ctx context.Context, identity string, all []DevicePosition) (fresh []int, err error) {
	n := len(all)
	device, at, received := make([]int64, n), make([]int64, n), make([]int64, n)
	lon, lat := make([]float64, n), make([]float64, n)
	var numbers [5][]float32
	for k := range numbers {
		numbers[k] = make([]float32, n)
	}
	properties := make([]string, n)
	for i := range all {
		p := &all[i]
		device[i], at[i], received[i] = p.Device, int64(p.Time), int64(p.Received)
		lon[i], lat[i], properties[i] = p.At.Lon, p.At.Lat, string(p.Properties)
		for k, v := range [...]float32{p.Accuracy, p.Altitude, p.AltitudeAccuracy, p.Heading, p.Speed} {
			numbers[k][i] = v
		}
	}
	finished := false
	err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var same bool
		if err := tx.Raw("SELECT id::text = ? FROM identity", identity).Row().Scan(&same); err != nil {
			return err
		}
		if !same {
			return ErrMoved
		}
		// What comes for a device while that is being taken out may be left: ForgetPositions finds it.
		rows, err := tx.Raw(`INSERT INTO positions SELECT g.device_key, g.time, g.received, g.lon, g.lat,
				nullif(g.accuracy, 'NaN'), nullif(g.altitude, 'NaN'), nullif(g.altitude_accuracy, 'NaN'),
				nullif(g.heading, 'NaN'), nullif(g.speed, 'NaN'), nullif(g.properties, '')::json
			FROM unnest(?::bigint[], ?::bigint[], ?::bigint[], ?::float8[], ?::float8[], ?::real[], ?::real[], ?::real[],
				?::real[], ?::real[], ?::text[]) AS g (device_key, time, received, lon, lat, accuracy, altitude,
				altitude_accuracy, heading, speed, properties)
			JOIN devices d ON d.key = g.device_key AND d.gone_at IS NULL ORDER BY g.device_key, g.time
			ON CONFLICT (device_key, time) DO NOTHING RETURNING device_key, time`, array[int64](device), array[int64](at),
			array[int64](received), array[float64](lon), array[float64](lat), array[float32](numbers[0]),
			array[float32](numbers[1]), array[float32](numbers[2]), array[float32](numbers[3]), array[float32](numbers[4]),
			array[string](properties)).Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		type which struct{ device, time int64 }
		inserted := make(map[which]bool, n)
		for rows.Next() {
			var w which
			if err := rows.Scan(&w.device, &w.time); err != nil {
				return err
			}
			inserted[w] = true
		}
		if err := rows.Err(); err != nil {
			return err
		}
		fresh = fresh[:0]
		for i := range all {
			if inserted[which{device[i], at[i]}] {
				fresh = append(fresh, i)
			}
		}
		finished = true
		return nil
	})
	switch {
	case err == nil:
		return fresh, nil
	case errors.Is(err, ErrMoved):
		return nil, err
	case finished && TroubleOf(err) == Unavailable:
		return nil, fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
	}
	return nil, fmt.Errorf("keeping positions: %w", err)
}

// A month is one of the Gregorian calendar in UTC, counted from that of the year 0.
type month int

func monthOf(m motion.Moment) month {
	t := m.Time()
	return month(t.Year()*12 + int(t.Month()) - 1)
}

// begins returns when a month begins.
func (m month) begins() motion.Moment {
	return motion.MomentOf(time.Date(int(m)/12, time.Month(int(m)%12+1), 1, 0, 0, 0, 0, time.UTC))
}

// String returns such as "2026_04".
func (m month) String() string { return fmt.Sprintf("%04d_%02d", int(m)/12, int(m)%12+1) }

func (m month) table() string { return "positions_" + m.String() }

// makeMonth makes the table of a month, unless it is known to be there.
func (s *Store) makeMonth(ctx context.Context, m month) error {
	if _, known := s.months.Load(m); known {
		return nil
	}
	err := s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock(?)", monthsLock).Error; err != nil {
			return err
		}
		if tx.Migrator().HasTable(m.table()) {
			return nil
		}
		// Attaching it lets others read and write meanwhile, unlike making it as a part.
		if err := tx.Exec(fmt.Sprintf("CREATE TABLE %s (LIKE positions INCLUDING ALL)", m.table())).Error; err != nil {
			return err
		}
		return tx.Exec(fmt.Sprintf("ALTER TABLE positions ATTACH PARTITION %s FOR VALUES FROM (%d) TO (%d)", m.table(),
			m.begins(), (m + 1).begins())).Error
	})
	if err == nil {
		s.months.Store(m, true)
	}
	return err
}

// monthsLock is the number of the advisory lock under which tables of months are made and dropped.
const monthsLock = migrationLock + 1

// NewestPositions calls yield with the newest positions of every device, at most so many of each, in no useful
// order.
func (s *Store) NewestPositions(ctx context.Context, each int, yield func(DevicePosition)) error {
	return s.eachPosition(s.reserved.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM devices d CROSS JOIN LATERAL (
		SELECT * FROM positions q WHERE q.device_key = d.key ORDER BY q.time DESC LIMIT ?) p WHERE d.gone_at IS NULL`, each),
		func(p DevicePosition) bool { yield(p); return true })
}

// NewestOf is NewestPositions for some devices.
func (s *Store) NewestOf(ctx context.Context, devices []int64, each int, yield func(DevicePosition)) error {
	return s.eachPosition(s.reserved.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM unnest(?::bigint[]) AS d (key)
		CROSS JOIN LATERAL (SELECT * FROM positions q WHERE q.device_key = d.key ORDER BY q.time DESC LIMIT ?) p`,
		array[int64](devices), each), func(p DevicePosition) bool { yield(p); return true })
}

// PositionsReceived calls yield with the positions that were received from one moment on and before another.
func (s *Store) PositionsReceived(ctx context.Context, from, before motion.Moment, yield func(DevicePosition)) error {
	return s.eachPosition(s.reserved.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM positions p WHERE
		p.received >= ? AND p.received < ?`, int64(from), int64(before)), func(p DevicePosition) bool {
		yield(p)
		return true
	})
}

// PositionsOf calls yield with the positions of some devices from one moment to another, both included, in the order of
// the times, until it returns false. There are at most limit.
func (s *Store) PositionsOf(
	ctx context.Context, devices []int64, from, to motion.Moment, limit int, yield func(DevicePosition) bool,
) error {
	return s.eachPosition(s.db.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM positions p WHERE
		p.device_key = ANY(?::bigint[]) AND p.time BETWEEN ? AND ? ORDER BY p.time, p.device_key LIMIT ?`,
		array[int64](devices), int64(from), int64(to), limit), yield)
}

// Beat notes that the process with an id takes positions, and returns how many others have done so within some time.
// Those that have not for a day are forgotten.
func (s *Store) Beat(ctx context.Context, id string, within time.Duration) (others int, err error) {
	ctx, cancel := context.WithTimeout(ctx, stateTimeout)
	defer cancel()
	err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		err := tx.Exec(`INSERT INTO fleet_nodes (id, heard_at) VALUES (?, now()) ON CONFLICT (id) DO UPDATE SET
			heard_at = now()`, id).Error
		if err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM fleet_nodes WHERE heard_at < now() - interval '1 day'").Error; err != nil {
			return err
		}
		return tx.Raw("SELECT count(*) FROM fleet_nodes WHERE id <> ? AND heard_at > now() - make_interval(secs => ?)", id,
			within.Seconds()).Row().Scan(&others)
	})
	return others, err
}

// Leave notes that the process with an id takes no positions any more.
func (s *Store) Leave(ctx context.Context, id string) error {
	return s.reserved.WithContext(ctx).Exec("DELETE FROM fleet_nodes WHERE id = ?", id).Error
}

// Track calls yield with the positions of a device from one moment to another, both included, in the order
// of their times, until it returns false. There are at most limit; if descending is set they are the newest, the
// newest first.
func (s *Store) Track(
	ctx context.Context, device int64, from, to motion.Moment, limit int, descending bool,
	yield func(motion.Position) bool,
) error {
	order := ""
	if descending {
		order = " DESC"
	}
	return s.eachPosition(s.db.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM positions p WHERE p.device_key = ?
		AND p.time BETWEEN ? AND ? ORDER BY p.time`+order+` LIMIT ?`, device, int64(from), int64(to), limit),
		func(p DevicePosition) bool { return yield(p.Position) })
}

// PositionsAt calls yield with the newest position of each of some devices that is no newer than a moment,
// and no older than another.
func (s *Store) PositionsAt(
	ctx context.Context, devices []int64, at, oldest motion.Moment, yield func(DevicePosition),
) error {
	return s.eachPosition(s.db.WithContext(ctx).Raw(`SELECT `+positionColumns+` FROM unnest(?::bigint[]) AS d (key)
		CROSS JOIN LATERAL (SELECT * FROM positions q WHERE q.device_key = d.key AND q.time BETWEEN ? AND ?
			ORDER BY q.time DESC LIMIT 1) p`, array[int64](devices), int64(oldest), int64(at)),
		func(p DevicePosition) bool { yield(p); return true })
}

// CountPositions returns how many positions a device has, and the times of the first and the last.
func (s *Store) CountPositions(ctx context.Context, device int64) (n int, first, last motion.Moment, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT count(*), coalesce(min(time), 0), coalesce(max(time), 0) FROM positions WHERE
		device_key = ?`, device).Row().Scan(&n, &first, &last)
	return n, first, last, err
}

// EraseTrack takes out the positions of a device from one moment to another, both included, with what was noticed
// then, for good, and returns how many positions they were.
func (s *Store) EraseTrack(ctx context.Context, device int64, from, to motion.Moment) (erased int64, err error) {
	err = s.changeFleet(ctx, func(tx *gorm.DB, version int64) error {
		gone := tx.Exec("DELETE FROM positions WHERE device_key = ? AND time BETWEEN ? AND ?", device, int64(from),
			int64(to))
		if erased = gone.RowsAffected; gone.Error != nil {
			return gone.Error
		}
		if err := forgetNotices(tx, device, from, to); err != nil {
			return err
		}
		// Whoever has them in memory reads that device anew.
		return tx.Exec("UPDATE devices SET version = ? WHERE key = ?", version, device).Error
	})
	if err != nil {
		err = fmt.Errorf("erasing a track: %w", err)
	}
	return erased, err
}

// eachPosition reads positions until yield returns false.
func (s *Store) eachPosition(query *gorm.DB, yield func(DevicePosition) bool) error {
	rows, err := query.Rows()
	if err != nil {
		return fmt.Errorf("reading positions: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var p DevicePosition
		var at geo.Point
		var numbers [5]*float32
		err := rows.Scan(&p.Device, &p.Time, &p.Received, &at.Lon, &at.Lat, &numbers[0], &numbers[1], &numbers[2],
			&numbers[3], &numbers[4], &p.Properties)
		if err != nil {
			return fmt.Errorf("reading positions: %w", err)
		}
		p.At = at
		for k, to := range [...]*float32{&p.Accuracy, &p.Altitude, &p.AltitudeAccuracy, &p.Heading, &p.Speed} {
			if *to = motion.Unknown; numbers[k] != nil {
				*to = *numbers[k]
			}
		}
		if !yield(p) {
			return nil
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading positions: %w", err)
	}
	return nil
}

// A Keeping says for how long the positions of the devices of a group are kept; 0 for good.
type Keeping struct {
	Group int64
	For   time.Duration
}

// ForgetPositions takes out what is older than it is to be kept, and what is left of devices that were taken
// out. Tables of months that nobody is to keep are dropped. Of groups and devices that were taken out nothing
// is left after a month.
func (s *Store) ForgetPositions(ctx context.Context, now time.Time, keeping []Keeping) error {
	longest := time.Duration(0)
	for _, k := range keeping {
		if k.For == 0 {
			longest = math.MaxInt64
		}
		longest = max(longest, k.For)
	}
	var tables []string
	err := s.db.WithContext(ctx).Raw(`SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE
		i.inhparent = 'positions'::regclass ORDER BY c.relname`).Scan(&tables).Error
	if err != nil {
		return fmt.Errorf("looking for old positions: %w", err)
	}
	oldest := motion.Moment(math.MinInt64)
	if longest < math.MaxInt64 {
		oldest = motion.MomentOf(now.Add(-longest))
	}
	for _, name := range tables {
		var year, number int
		if _, err := fmt.Sscanf(name, "positions_%d_%d", &year, &number); err != nil {
			continue
		}
		m := month(year*12 + number - 1)
		if (m + 1).begins() > oldest {
			break
		}
		s.months.Delete(m)
		err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			if err := tx.Exec("SELECT pg_advisory_xact_lock(?)", monthsLock).Error; err != nil {
				return err
			}
			return tx.Exec("DROP TABLE IF EXISTS " + m.table()).Error
		})
		if err != nil {
			return fmt.Errorf("dropping the positions of %s: %w", m, err)
		}
	}
	for _, k := range keeping {
		if k.For == 0 {
			continue
		}
		err := s.db.WithContext(ctx).Exec(`DELETE FROM positions p USING devices d WHERE d.group_key = ? AND
			p.device_key = d.key AND p.time < ?`, k.Group, motion.MomentOf(now.Add(-k.For))).Error
		if err == nil {
			err = s.db.WithContext(ctx).Exec(`DELETE FROM notices n USING devices d WHERE d.group_key = ? AND
				d.key IN (n.device_key, n.other_key) AND n.time < ?`, k.Group, motion.MomentOf(now.Add(-k.For))).Error
		}
		if err != nil {
			return fmt.Errorf("deleting old positions: %w", err)
		}
	}
	for _, sql := range []string{
		"DELETE FROM notices n USING devices d WHERE d.gone_at IS NOT NULL AND d.key IN (n.device_key, n.other_key)",
		"DELETE FROM watch_flags f USING devices d WHERE d.gone_at IS NOT NULL AND d.key IN (f.device_key, f.other_key)",
		"DELETE FROM positions p USING devices d WHERE d.gone_at IS NOT NULL AND p.device_key = d.key",
		"DELETE FROM devices WHERE gone_at < now() - interval '30 days'",
		`DELETE FROM device_groups g WHERE gone_at < now() - interval '30 days' AND NOT EXISTS (SELECT FROM devices d
			WHERE d.group_key = g.key)`,
	} {
		if err := s.db.WithContext(ctx).Exec(sql).Error; err != nil {
			return fmt.Errorf("deleting what is left of devices: %w", err)
		}
	}
	return nil
}
