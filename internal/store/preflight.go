package store

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// ErrNotUsable reports a database that the service cannot work with as it is.
var ErrNotUsable = errors.New("the database cannot be used")

// ErrReadOnly reports a server that takes no changes.
var ErrReadOnly = fmt.Errorf("%w: the server is read-only, a standby or set so; connect to the primary "+
	"(with several hosts in the connection string, add target_session_attrs=read-write)", ErrNotUsable)

// minServer is the oldest version of PostgreSQL that is supported, as server_version_num
// has it.
const minServer = 150000

// insufficientPrivilege is PostgreSQL's code of the error that a role may not do something.
const insufficientPrivilege = "42501"

var schemaName = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}$`)

// inspect makes the schema if one is named, and refuses a database that the service
// cannot work with, saying what to do.
func (s *Store) inspect(ctx context.Context, schema string) error {
	db := s.reserved.WithContext(ctx)
	var found struct {
		Version                     int
		Encoding, Database, Role    string
		Recovering, ReadOnly, Temps bool
		Schema                      *string
		Creates                     bool
	}
	if schema != "" {
		if err := s.makeSchema(db, schema); err != nil {
			return err
		}
	}
	err := db.Raw(`SELECT current_setting('server_version_num')::int AS version,
			current_setting('server_encoding') AS encoding, current_database() AS database, current_user AS role,
			pg_is_in_recovery() AS recovering, current_setting('transaction_read_only') = 'on' AS read_only,
			has_database_privilege(current_database(), 'TEMP') AS temps, current_schema() AS schema,
			coalesce(has_schema_privilege(current_schema(), 'CREATE'), false) AS creates`).Scan(&found).Error
	if err != nil {
		return err
	}
	var tables []string
	err = db.Raw("SELECT tablename FROM pg_tables WHERE schemaname = current_schema()").Scan(&tables).Error
	if err != nil {
		return err
	}
	fresh := !slices.Contains(tables, migrationsTable)
	unusable := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrNotUsable, fmt.Sprintf(format, args...))
	}
	switch {
	case found.Recovering || found.ReadOnly:
		return ErrReadOnly
	case found.Version < minServer:
		return unusable(
			"its server is version %d, the oldest that is supported is %d",
			found.Version/10000,
			minServer/10000,
		)
	case found.Encoding != "UTF8":
		return unusable(
			"its encoding is %s; make one with 'createdb --encoding=UTF8 --template=template0 NAME'",
			found.Encoding,
		)
	case !found.Temps:
		return unusable(
			"role %s may not make temporary tables, which imports need: GRANT TEMPORARY ON DATABASE %s TO %s",
			found.Role,
			found.Database,
			found.Role,
		)
	case found.Schema == nil:
		return unusable("none of the schemas of its search_path is there; name one to be made with --schema")
	case fresh && !found.Creates:
		return unusable(
			"role %s may not make tables in schema %s: GRANT CREATE, USAGE ON SCHEMA %s TO %s, or name a schema to "+
				"be made with --schema",
			found.Role,
			*found.Schema,
			*found.Schema,
			found.Role,
		)
	case fresh:
		for _, name := range ownTables {
			if slices.Contains(tables, name) {
				return unusable("schema %s already has a table %s, which is another program's; "+
					"name a schema of the service's own with --schema, or another database", *found.Schema, name)
			}
		}
	}
	return nil
}

func (s *Store) makeSchema(db *gorm.DB, schema string) error {
	var there bool
	if err := db.Raw("SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = ?)",
		schema).Scan(&there).Error; err != nil ||
		there {
		return err
	}
	err := db.Exec("CREATE SCHEMA IF NOT EXISTS " + schema).Error
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == insufficientPrivilege {
		return fmt.Errorf(
			"%w: it has no schema %s, and the role may not make one: CREATE SCHEMA %s AUTHORIZATION the role",
			ErrNotUsable,
			schema,
			schema,
		)
	}
	return err
}
