package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// A Trouble is a kind of reason why the database did not do what it was asked for, though
// nothing is wrong with the program.
type Trouble int

// The kinds of trouble.
const (
	NoTrouble Trouble = iota
	// it cannot be reached, is busy for too long, or cannot be written to; trying again later may help
	Unavailable
	Full    // it, or what is written on the way to it, has no room left on its disk
	Refused // it does not take the values: the edit has to change
)

// ErrUnknownOutcome reports that the connection was lost while a transaction was being
// committed: it may have been carried out, or not.
var ErrUnknownOutcome = errors.New("it is not known whether this was carried out")

// ErrMoved reports that the database is not the one that was looked at last: it was
// restored, or another server has taken its place. Nothing was written.
var ErrMoved = errors.New("store: the database has been replaced by another state of it")

// TroubleOf returns what kind of trouble err comes from.
func TroubleOf(err error) Trouble {
	var fromServer *pgconn.PgError
	if errors.As(err, &fromServer) {
		return troubleOfCode(fromServer.Code)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return Full
	}
	var connecting *pgconn.ConnectError
	var onTheWay net.Error
	for _, known := range []error{
		ErrUnknownOutcome, ErrMoved, ErrImporting, driver.ErrBadConn, context.DeadlineExceeded,
		io.ErrUnexpectedEOF, io.EOF, net.ErrClosed, pgx.ErrTxClosed,
	} {
		if errors.Is(err, known) {
			return Unavailable
		}
	}
	if errors.As(err, &connecting) || errors.As(err, &onTheWay) || pgconn.Timeout(err) ||
		err != nil && strings.Contains(err.Error(), "conn closed") {
		return Unavailable
	}
	return NoTrouble
}

// troubleOfCode judges by the codes of PostgreSQL's errors (Appendix A of its manual).
func troubleOfCode(code string) Trouble {
	switch code {
	case "53100": // disk_full
		return Full
	case "57014", // query_canceled: by a limit of time that was set
		"55P03", // lock_not_available
		"25006", // read_only_sql_transaction
		"25P03", // idle_in_transaction_session_timeout
		"40001", "40P01", "55000":
		return Unavailable
	}
	switch code[:2] {
	case "08", "53", "57", "58": // of the connection, of resources, of an operator, of the system
		return Unavailable
	case "21", "22", "23", "54": // of the values, of constraints, of limits
		return Refused
	}
	return NoTrouble
}

// worthRepeating reports whether a transaction failed for a reason that lies in what others
// did at the same time.
func worthRepeating(err error) bool {
	var fromServer *pgconn.PgError
	return errors.As(err, &fromServer) && (fromServer.Code == "40001" || fromServer.Code == "40P01")
}

// Limits of time. What takes longer than a statement of an edit may take is not waited for.
const (
	lockTimeout      = "10s"   // until the clock, or any other lock, is free
	idleTimeout      = "20s"   // of a session that began a transaction and says nothing more
	checkConnections = "2s"    // how often the server looks whether who asked is still there
	editTimeout      = "30s"   // of one statement of an edit
	mergeTimeout     = "30min" // of one statement of a large import
	stateTimeout     = 3 * time.Second
)
