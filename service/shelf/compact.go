package shelf

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/go-sql-driver/mysql"
	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// Compacted is what a table of a shelf took before and after it was compacted.
type Compacted struct {
	Shelf  string `json:"shelf"`
	Table  string `json:"table"`
	Before int64  `json:"before"` // bytes
	After  int64  `json:"after"`
}

// worthwhile is how much of a table must be free for it to be compacted: a tenth, and
// some bytes at least.
const (
	worthwhilePart = 10
	worthwhile     = 16 << 20
)

// ErrCluster says that a cluster is not compacted: it would stand still meanwhile.
var ErrCluster = errors.New("it is a cluster, which would take nothing while a table is compacted; drain the shelf to another one instead, or compact node by node as docs/scale.md says")

// Compact gives the room that removed blocks have left back to the file system, table by
// table, while the store works. The database must have as much room on its disk as what is
// left of the largest table. Of a table of which little is free nothing is done. tell is
// called before each with what it takes. A connection to it must not end while a table is
// compacted: see model.OpenPatiently.
func Compact(ctx context.Context, name string, db *gorm.DB, tell func(table string, bytes int64)) (done []Compacted, err error) {
	db = db.WithContext(ctx)
	var cluster string
	if err := db.Raw("SELECT @@global.wsrep_on").Scan(&cluster).Error; err == nil && cluster == "1" {
		return nil, ErrCluster
	}
	lease := model.Lease{Job: "compact", Holder: model.NewID(), For: compactTime}
	if mine, err := lease.Take(db); err != nil || !mine {
		return nil, errors.Join(err, model.ErrNotMine)
	}
	defer func() { err = errors.Join(err, lease.Leave(db)) }()
	var tables []struct {
		Name        string
		Bytes, Free int64
	}
	err = db.Raw("SELECT table_name AS name, data_length + index_length + data_free AS bytes, data_free AS free FROM information_schema.tables WHERE table_schema = DATABASE() AND engine = 'InnoDB' ORDER BY bytes").Scan(&tables).Error
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		if t.Free < worthwhile || t.Free < t.Bytes/worthwhilePart {
			continue
		}
		tell(t.Name, t.Bytes)
		// It is copied beside those who write, which takes a while; what needs the table for
		// itself, for a moment at its end, does not make others wait for long.
		err := db.Exec(fmt.Sprintf("ALTER TABLE %s WAIT 5 FORCE, ALGORITHM=INPLACE, LOCK=NONE", t.Name)).Error
		if err != nil {
			return done, fmt.Errorf("table %s is as it was: %w", t.Name, reasonOf(err))
		}
		c := Compacted{Shelf: name, Table: t.Name, Before: t.Bytes}
		if err := db.Raw("SELECT data_length + index_length + data_free FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?", t.Name).Scan(&c.After).Error; err != nil {
			return done, err
		}
		done = append(done, c)
	}
	return done, nil
}

// compactTime is for how long one command compacts, and no other.
const compactTime = 12 * time.Hour

// reasonOf says what a refusal to compact means.
func reasonOf(err error) error {
	var refusal *mysql.MySQLError
	if errors.As(err, &refusal) {
		switch refusal.Number {
		case 1799:
			return errors.New("more came meanwhile than the database notes; set innodb_online_alter_log_max_size higher, or do it at a quiet hour")
		case 1205:
			return errors.New("somebody has read it all the while, such as oakbarrel store check or a backup; do it once that is over")
		case 1114, 1021, 3, 28:
			return errors.New("the disk of the database has no room for a copy of what is left")
		}
	}
	return err
}
