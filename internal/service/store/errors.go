package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// ErrNotFound says that a record is not there.
var ErrNotFound = errors.New("not found")

// ErrStale says that something is not what its changer saw.
var ErrStale = errors.New("somebody else has changed this meanwhile: look again")

// ErrConflict says that a record is not in the state that a change needs.
var ErrConflict = errors.New("conflict")

// ErrUnsure says that a connection broke while a change was being committed: it may be there or not.
var ErrUnsure = errors.New("the database was lost in this very moment: whether the change was kept is not known")

// An error of the database is one of these if [Trouble] says so.
var (
	ErrFull        = errors.New("the database has no room left")
	ErrUnavailable = errors.New("the database does not answer")
	ErrText        = errors.New("a text has characters that the database does not take there")
)

// Numbers of MariaDB's errors, by the names that its documentation gives them.
const (
	erCantCreateTable   = 1005
	erCheckread         = 1020 // the record has changed since it was read
	erDiskFull          = 1021
	erCantAggregate     = 1267 // a mix of collations
	erDupEntry          = 1062
	erServerShutdown    = 1053
	erUnknownCom        = 1047 // of a cluster's node: it is not ready
	erForcingClose      = 1080
	erNormalShutdown    = 1077
	erShutdownComplete  = 1079
	erRecordFileFull    = 1114
	erUnknownVariable   = 1193
	erLockWaitTimeout   = 1205
	erLockDeadlock      = 1213
	erInvalidCharacter  = 1300
	erConnectionKilled  = 1927
	noSpaceLeftOnDevice = "28" // ENOSPC, as the text of erCantCreateTable has it
)

// numbered returns the number of an error that the database answered with; 0 for any other error.
func numbered(err error) (number uint16, text string) {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Number, e.Message
	}
	return 0, ""
}

// Trouble returns what is wrong if an error is none of the caller's making: ErrFull, ErrUnavailable, ErrUnsure or
// ErrText; nil for any other error.
func Trouble(err error) error {
	var network net.Error
	number, text := numbered(err)
	switch {
	case errors.Is(err, ErrUnsure):
		return ErrUnsure
	case number == erCantAggregate, number == erInvalidCharacter:
		return ErrText
	case number == erRecordFileFull, number == erDiskFull,
		number == erCantCreateTable && strings.Contains(text, noSpaceLeftOnDevice):
		return ErrFull
	case number == erServerShutdown, number == erUnknownCom, errors.As(err, &network),
		errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, context.DeadlineExceeded):
		return ErrUnavailable
	}
	return nil
}

// duplicate reports whether a record was refused because there is one with its key.
func duplicate(err error) bool {
	number, _ := numbered(err)
	return number == erDupEntry
}

// retryable reports deadlocks, lock waits, changed records and cluster nodes that are not ready. Whatever was begun
// is rolled back then.
func retryable(err error) bool {
	number, _ := numbered(err)
	return slices.Contains([]uint16{erLockDeadlock, erLockWaitTimeout, erCheckread, erUnknownCom}, number)
}

// lost reports that the connection is unusable: it broke, the server is stopping, or the node is cut off from its
// cluster.
func lost(err error) bool {
	if number, _ := numbered(err); number != 0 {
		return slices.Contains([]uint16{
			erUnknownCom, erServerShutdown, erNormalShutdown, erShutdownComplete, erForcingClose, erConnectionKilled,
		}, number)
	}

	var n net.Error
	if errors.As(err, &n) {
		return !n.Timeout()
	}
	return errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF)
}
