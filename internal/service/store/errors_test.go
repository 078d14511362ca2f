package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"testing"

	"github.com/go-sql-driver/mysql"
)

// What the database says by its numbers is told in words of the store, so that nobody above it knows the numbers.
func TestTrouble(t *testing.T) {
	server := func(number uint16, text string) error {
		return fmt.Errorf("keep a plan: %w", &mysql.MySQLError{Number: number, Message: text})
	}
	for _, c := range []struct {
		name string
		err  error
		want error
	}{
		{"nothing", nil, nil},
		{"not there", ErrNotFound, nil},
		{"a key twice", server(1062, "Duplicate entry"), nil},
		{"a full table", server(1114, "The table is full"), ErrFull},
		{"a full disk", server(1021, "Disk full"), ErrFull},
		{"no room for a table", server(1005, `Can't create table (errno: 28 "No space left on device")`), ErrFull},
		{"a table that cannot be", server(1005, `Can't create table (errno: 150 "Foreign key")`), nil},
		{"characters", server(1300, "Invalid utf8mb4 character string"), ErrText},
		{"collations", server(1267, "Illegal mix of collations"), ErrText},
		{"an end", server(1053, "Server shutdown in progress"), ErrUnavailable},
		{"a node alone", server(1047, "WSREP has not yet prepared node"), ErrUnavailable},
		{"no network", &net.OpError{Op: "dial", Err: errors.New("refused")}, ErrUnavailable},
		{"a broken connection", mysql.ErrInvalidConn, ErrUnavailable},
		{"too late", context.DeadlineExceeded, ErrUnavailable},
		{"half way", fmt.Errorf("%w: %w", ErrUnsure, mysql.ErrInvalidConn), ErrUnsure},
		{"gone", context.Canceled, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := Trouble(c.err); got != c.want {
				t.Errorf("%v is %v, want %v", c.err, got, c.want)
			}
		})
	}
}
