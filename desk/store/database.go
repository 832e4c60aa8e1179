package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	sqlite "github.com/glebarez/go-sqlite"
	driver "github.com/glebarez/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// DatabaseName is the database's name in the data folder and in a backup.
const DatabaseName = "glenrain.db"

// OpenWritten opens the database of a data folder that is worked on: WAL with synchronous=FULL, so that what was committed is on the disk. end ends
// what goes on beside it, before the database is closed.
func OpenWritten(dir string, log *slog.Logger) (db *gorm.DB, end func(), err error) {
	path := filepath.Join(dir, DatabaseName)
	dsn := "file:" + path + "?_pragma=secure_delete(1)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)&_pragma=wal_autocheckpoint(0)&_txlock=immediate"
	conn, err := sql.Open(driver.DriverName, dsn)
	if err != nil {
		return nil, nil, err
	}
	db, err = gorm.Open(driver.Dialector{DSN: dsn, Conn: newWriters(conn)}, &gorm.Config{Logger: quietLog{log, slowStatement}})
	if err != nil {
		return nil, nil, errors.Join(err, conn.Close())
	}
	ctx, stop := context.WithCancel(context.Background())
	var checkpoints sync.WaitGroup
	checkpoints.Go(func() { checkpointing(ctx, conn, path+"-wal") })
	return db, func() { stop(); checkpoints.Wait() }, nil
}

// OpenDatabase opens a database by its address, without turns and without a log of statements.
func OpenDatabase(dsn string) (db *gorm.DB, done func() error, err error) {
	db, err = gorm.Open(driver.Open(dsn), &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return nil, nil, fmt.Errorf("opening the database: %w", err)
	}
	sql, err := db.DB()
	if err != nil {
		return nil, nil, err
	}
	return db, sql.Close, nil
}

// Checkpoints, which bring what is in the log of writes into the database, are made beside the writers, and not by the one that happens to commit: others would wait
// for the disk until it is done.
const (
	checkpointEvery = 300 * time.Millisecond
	checkpointFrom  = 4 << 20 // bytes of the log
)

// checkpointing makes checkpoints until ctx ends. A passive one waits for nobody, and nobody waits for it (SQLite, wal_checkpoint_v2).
func checkpointing(ctx context.Context, db *sql.DB, log string) {
	var was os.FileInfo
	tick := time.NewTicker(checkpointEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now, err := os.Stat(log)
		if err != nil || now.Size() < checkpointFrom || was != nil && was.ModTime().Equal(now.ModTime()) {
			continue
		}
		was = now
		var busy, pages, moved int
		_ = db.QueryRowContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)").Scan(&busy, &pages, &moved) // the next one goes on
	}
}

// writers lets one transaction write at a time, in the order in which they came. SQLite itself allows one writer too, but has the others try again
// after a while, so that one who writes much keeps out one who writes little.
type writers struct {
	*sql.DB
	turn chan struct{}
}

func newWriters(db *sql.DB) *writers { return &writers{db, make(chan struct{}, 1)} }

// longestTurn is how long a transaction waits for its turn before it fails.
const longestTurn = 30 * time.Second

var errTurn = errors.New("the database is being written to and did not come free")

func (w *writers) enter(ctx context.Context) (leave func(), err error) {
	select {
	case w.turn <- struct{}{}:
	default:
		late := time.NewTimer(longestTurn)
		defer late.Stop()
		select {
		case w.turn <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-late.C:
			return nil, errTurn
		}
	}
	return sync.OnceFunc(func() { <-w.turn }), nil
}

// ExecContext runs a statement that stands alone.
func (w *writers) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	leave, err := w.enter(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	return w.DB.ExecContext(ctx, query, args...)
}

// BeginTx begins a transaction; the turn is over with it.
func (w *writers) BeginTx(ctx context.Context, opt *sql.TxOptions) (gorm.ConnPool, error) {
	leave, err := w.enter(ctx)
	if err != nil {
		return nil, err
	}
	tx, err := w.DB.BeginTx(ctx, opt)
	if err != nil {
		leave()
		return nil, err
	}
	return &writing{tx, leave}, nil
}

// GetDBConn gives gorm the connections themselves.
func (w *writers) GetDBConn() (*sql.DB, error) { return w.DB, nil }

// writing is a transaction that has its turn.
type writing struct {
	*sql.Tx
	leave func()
}

// Commit ends the transaction, and its turn.
func (t *writing) Commit() error {
	defer t.leave()
	return t.Tx.Commit()
}

// Rollback ends the transaction, and its turn.
func (t *writing) Rollback() error {
	defer t.leave()
	return t.Tx.Rollback()
}

// Quiet gives a log of statements that took from slow on, or failed.
func Quiet(log *slog.Logger, slow time.Duration) logger.Interface { return quietLog{log, slow} }

// quietLog logs statements that are slow or fail: what kind of statement on which table, and how long it took, and never a value, which may be
// somebody's text.
type quietLog struct {
	log  *slog.Logger
	slow time.Duration // from which on a statement is logged
}

// slowStatement is how long a statement may take without being logged.
const slowStatement = time.Second

func (q quietLog) LogMode(logger.LogLevel) logger.Interface      { return q }
func (q quietLog) Info(context.Context, string, ...interface{})  {}
func (q quietLog) Warn(context.Context, string, ...interface{})  {}
func (q quietLog) Error(context.Context, string, ...interface{}) {}

// ParamsFilter keeps values out of statements before anything is made of them.
func (q quietLog) ParamsFilter(_ context.Context, statement string, _ ...interface{}) (string, []interface{}) {
	return shape(statement), nil
}

// Trace logs a statement that took long or failed.
func (q quietLog) Trace(_ context.Context, begin time.Time, statement func() (string, int64), err error) {
	took := time.Since(begin)
	if errors.Is(err, gorm.ErrRecordNotFound) || errors.Is(err, context.Canceled) {
		err = nil
	}
	if q.log == nil || err == nil && took < q.slow {
		return
	}
	s, rows := statement()
	args := []any{"statement", shape(s), "rows", rows, "took", took.Round(time.Millisecond)}
	if err != nil {
		args = append(args, "code", codeOf(err))
	}
	q.log.Warn("a statement was slow or failed", args...)
}

// codeOf is what the log says of an error: SQLite's result code, or that it was another one, since messages may quote what was written.
func codeOf(err error) any {
	var db *sqlite.Error
	if errors.As(err, &db) {
		return db.Code()
	}
	return "other"
}

// shape gives the first words of a statement, which are its own and no value: verb and table.
func shape(statement string) string {
	words := strings.Fields(statement[:min(len(statement), 200)])
	for i, w := range words {
		if i >= 6 || i > 0 && strings.ContainsAny(w, "'\"(=?") {
			words = words[:i]
			break
		}
	}
	return strings.Join(words, " ")
}
