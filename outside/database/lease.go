package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
)

// leaseTable is a small table of ours, which is there only while a run works on a cluster: a lock
// of the server's own holds on one node alone.
const leaseTable = "trimlantern_lock"

const (
	leaseTime  = 60 * time.Second // after which the lock of a run that was killed is free
	leaseRenew = leaseTime / 4
)

// clustered reports whether the server is a node of a cluster that replicates what is written.
func clustered(ctx context.Context, db *sql.DB) (uuid string, yes bool) {
	var on sql.NullString
	if db.QueryRowContext(ctx, "SELECT @@wsrep_on").Scan(&on) != nil || on.String != "1" && on.String != "ON" {
		return "", false // also where the server does not know the word
	}
	var name, provider string
	if db.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'wsrep_cluster_state_uuid'").Scan(&name, &uuid) != nil || uuid == "" {
		return "", false
	}
	if db.QueryRowContext(ctx, "SHOW GLOBAL VARIABLES LIKE 'wsrep_provider'").Scan(&name, &provider) != nil || provider == "" || provider == "none" {
		return "", false
	}
	return uuid, true
}

// lease is a lock on all nodes of a cluster: a row that says who holds it and until when. Of two
// who take it on two nodes at once, the cluster lets one through.
type lease struct {
	conn    *sql.Conn
	holder  string
	renewed atomic.Int64 // when; Unix time in nanoseconds
	stop    context.CancelFunc
	ended   chan struct{}
}

// takeLease takes the lock. It fails with ErrLocked while another run holds it.
func takeLease(ctx context.Context, db *sql.DB) (*lease, error) {
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	host, _ := os.Hostname() // only for people
	l := &lease{conn: conn, holder: fmt.Sprintf("process %d on %s, since %s UTC", os.Getpid(), host, time.Now().UTC().Format("15:04:05.000")), ended: make(chan struct{})}
	if err := l.take(ctx); err != nil {
		conn.Close()
		return nil, err
	}
	ctx, l.stop = context.WithCancel(context.WithoutCancel(ctx))
	go l.keep(ctx)
	return l, nil
}

func (l *lease) take(ctx context.Context) error {
	for try := 0; ; try++ {
		got, err := l.try(ctx)
		switch {
		case err == nil && got:
			l.renewed.Store(time.Now().UnixNano())
			return nil
		case err == nil:
			var holder, until string
			err = l.conn.QueryRowContext(ctx, "SELECT holder, DATE_FORMAT(until_utc, '%H:%i:%s') FROM "+leaseTable+" WHERE id = 1").Scan(&holder, &until)
			if err == nil {
				return fmt.Errorf("%w (%s; should it have been killed, the lock is free at %s UTC)", ErrLocked, holder, until)
			}
		}
		// The other run has just given it back, or both were at it: once more.
		if try == 10 || !errors.Is(err, sql.ErrNoRows) && !passing(err) {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// passing reports whether an error says that others were at the lock at the same moment.
func passing(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && (e.Number == 1146 || e.Number == 1047 || e.Number == 1205 || e.Number == 1213)
}

func (l *lease) try(ctx context.Context) (got bool, err error) {
	for _, q := range []string{
		"CREATE TABLE IF NOT EXISTS " + leaseTable + " (id TINYINT PRIMARY KEY, holder VARCHAR(255) NOT NULL, until_utc DATETIME(3) NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4",
		"INSERT IGNORE INTO " + leaseTable + " VALUES (1, '', '2000-01-01')",
	} {
		if _, err := l.conn.ExecContext(ctx, q); err != nil {
			return false, err
		}
	}
	return l.extend(ctx, "until_utc < UTC_TIMESTAMP(3)")
}

// extend writes how long the lock is held from now on, where a condition holds.
func (l *lease) extend(ctx context.Context, where string, args ...any) (bool, error) {
	r, err := l.conn.ExecContext(ctx, fmt.Sprintf("UPDATE %s SET holder = ?, until_utc = UTC_TIMESTAMP(3) + INTERVAL %d SECOND WHERE id = 1 AND %s", leaseTable, int(leaseTime.Seconds()), where), append([]any{l.holder}, args...)...)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

// keep renews the lock until it is given back.
func (l *lease) keep(ctx context.Context) {
	defer close(l.ended)
	for wait := leaseRenew; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = leaseRenew
		if got, err := l.extend(ctx, "holder = ?", l.holder); err == nil && got {
			l.renewed.Store(time.Now().UnixNano())
		} else if err != nil {
			wait = time.Second // still says so if it goes on
		}
	}
}

// still fails where the lock may be another's by now.
func (l *lease) still(context.Context) error {
	if age := time.Since(time.Unix(0, l.renewed.Load())); age > leaseTime-leaseRenew {
		return fmt.Errorf("%w: the lock could not be renewed for %d seconds", ErrLocked, int(age.Seconds()))
	}
	return nil
}

// release gives the lock back. The table goes while the lock is still held, so that nobody else's
// goes with it.
func (l *lease) release() {
	l.stop()
	<-l.ended
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	if got, err := l.extend(ctx, "holder = ?", l.holder); err == nil && got {
		_, _ = l.conn.ExecContext(ctx, "DROP TABLE "+leaseTable) // else the lock ends with its time
	}
	l.conn.Close()
}
