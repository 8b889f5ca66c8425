// Package model has the tables of the central store and their migrations.
// Nothing else of the project knows the database's shape.
package model

import (
	"cmp"
	"crypto/rand"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/go-sql-driver/mysql"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"

	"oakbarrel/service/nodes"
)

// Cask is a named collection of records.
type Cask struct {
	ID      uint64 `gorm:"primaryKey"`
	Name    string `gorm:"size:64;uniqueIndex"`
	Created time.Time
	Keep    Keep   `gorm:"embedded;embeddedPrefix:keep_"`
	ShelfID uint32 `gorm:"not null;default:0"` // where its new feeds go, 0 for the one with the most room
}

// Keep says for how long a cask keeps its blocks, by their arrival. 0 stands for no bound.
type Keep struct {
	Days       int
	Total      int64 // bytes as they are kept
	Held       bool  // nothing is removed, but for DaysAtMost
	DaysAtMost int   // overrides all
}

// Token lets a program write to a cask or read from it. The token itself is not kept.
type Token struct {
	ID           uint64  `gorm:"primaryKey"`
	Hash         []byte  `gorm:"type:binary(32);uniqueIndex"` // SHA-256
	CaskID       *uint64 // nil for every cask
	May          string  `gorm:"size:8"` // "read", "write", "import" or "admin"
	Label        string  `gorm:"size:128"`
	AgentID      string  `gorm:"size:32;index"` // of the only agent that may use it; "" for reading, and for writing until the first use
	InvitationID *uint64 // that it was made for, nil for none
	Created      time.Time
	Used         *time.Time // last, give or take a minute; nil for never
}

// Identity says that an agent has, or had, a token of its own: nobody else is served
// as this agent.
type Identity struct {
	AgentID string `gorm:"size:32;primaryKey"`
	Since   time.Time
	Replace *time.Time // until then another token is let in, and the old one goes; nil for not
}

// Invitation lets agents have tokens of their own. Its code is not kept.
type Invitation struct {
	ID      uint64 `gorm:"primaryKey"`
	Hash    []byte `gorm:"type:binary(32);uniqueIndex"` // SHA-256
	CaskID  uint64
	Label   string `gorm:"size:128"`
	By      string `gorm:"size:128"`
	Ends    time.Time
	Uses    int        `gorm:"default:1"`          // how often it may be accepted
	Times   int        `gorm:"not null;default:0"` // it was accepted
	Labels  string     `gorm:"type:text"`          // JSON: of the hosts that accept it
	Used    *time.Time // last
	AgentID string     `gorm:"size:32"` // that used it last
}

// Account is a person who may sign in.
type Account struct {
	ID       uint64 `gorm:"primaryKey"`
	Name     string `gorm:"size:64;uniqueIndex"`
	Role     string `gorm:"size:16"` // viewer, operator or admin
	Password []byte `gorm:"size:72"` // bcrypt
	Created  time.Time
}

// Session is a sign-in that lasts. Its key is not kept, only the hash.
type Session struct {
	Hash      []byte `gorm:"type:binary(32);primaryKey"` // SHA-256
	AccountID uint64
	Ends      time.Time
}

// Try counts the passwords that were tried for an account, or from an address, in
// the minute that has begun.
type Try struct {
	Who   string `gorm:"size:128;primaryKey"` // "account NAME" or "address ADDRESS"
	Begun time.Time
	Count int
}

// Agent is what an agent says of itself.
type Agent struct {
	ID        string `gorm:"size:32;primaryKey"`
	Host      string `gorm:"size:255"`
	PlanHash  string `gorm:"size:64"`
	Held      int64
	LastHeard time.Time
	Status    []byte `gorm:"type:longblob"` // JSON
	Served    Served `gorm:"embedded;embeddedPrefix:served_"`
	System    string `gorm:"size:16;not null;default:''"`
	OwnLabels string `gorm:"type:text"`       // JSON: those that the host gives itself
	OwnValues string `gorm:"type:text"`       // likewise
	Tallies   string `gorm:"type:mediumtext"` // JSON: what it last said of each tally
	Summary   string `gorm:"type:mediumtext"` // JSON: of its status
}

// AgentPlan is the plan that an agent has in force.
type AgentPlan struct {
	AgentID string `gorm:"size:32;primaryKey"`
	Hash    string `gorm:"size:64"`
	Text    []byte `gorm:"type:mediumblob"`
}

// Feed is the ordered flow of records from one outlet of one agent into a cask.
type Feed struct {
	ID         uint64 `gorm:"primaryKey"`
	CaskID     uint64 `gorm:"uniqueIndex:feed_key,priority:3;index:cask_shelf,priority:1;not null;default:0"`
	AgentID    string `gorm:"size:32;uniqueIndex:feed_key,priority:1"`
	Outlet     string `gorm:"size:64;uniqueIndex:feed_key,priority:2"`
	Generation string `gorm:"size:32;uniqueIndex:feed_key,priority:4;not null;default:''"` // random, "" for the first
	Base       uint64 `gorm:"not null;default:0"`                                          // the number before its first
	Confirmed  uint64 // the last number that is committed
	Sender     string `gorm:"size:128"`                                       // the label of the token that its last batch came with: who it is known to be
	Run        string `gorm:"size:32;not null;default:''"`                    // that may write, "" for one of an agent that shows none
	Link       string `gorm:"size:64;not null;default:''"`                    // of its last batch, which the next one names
	ShelfID    uint32 `gorm:"not null;default:1;index:cask_shelf,priority:2"` // where it lives; elsewhere this row only tells where
	Fenced     bool   `gorm:"not null;default:false"`                         // nothing is taken, as it moves to another shelf

	// What its numbers have come to, also of what was removed since.
	Came    int64 `gorm:"not null;default:0"`
	Shed    int64 `gorm:"not null;default:0"`
	Lost    int64 `gorm:"not null;default:0"`
	Refused int64 `gorm:"not null;default:0"`
	Twice   int64 `gorm:"not null;default:0"` // of what came: may be in another generation too
}

// FeedRun is a run of an agent that has had the lease of a feed.
type FeedRun struct {
	ID      uint64 `gorm:"primaryKey"`
	FeedID  uint64 `gorm:"index"`
	Run     string `gorm:"size:32"`
	First   uint64 // the first number that it gave out
	Machine string `gorm:"size:64"` // a hash of what tells machines apart
	Granted time.Time
}

// Store is what tells this store apart from others; a copy of its database has it too,
// and so has each shelf.
type Store struct {
	ID      uint8      `gorm:"primaryKey;autoIncrement:false"`
	Name    string     `gorm:"size:32"`            // random
	ShelfID uint32     `gorm:"not null;default:1"` // which shelf of the store this database is
	Moves   uint64     `gorm:"not null;default:0"` // how often something was moved from one shelf to another
	Held    *time.Time // until then nothing is moved, so that those who read can
}

// FirstShelf is the database that tells of all others.
const FirstShelf = 1

// Shelf is a database, or a cluster, that holds what is kept of feeds.
type Shelf struct {
	ID      uint32 `gorm:"primaryKey"`
	Name    string `gorm:"size:64;uniqueIndex"`
	DSN     string `gorm:"type:text"` // one, or those of a cluster's nodes; "" for the first
	Size    int64  // bytes that it is meant to hold
	Drains  bool   // its feeds move to other shelves
	Created time.Time
}

// Move is a feed on its way from one shelf to another: what has a number up to Through
// counts at the one it moves to, all else where it was.
type Move struct {
	FeedID  uint64 `gorm:"primaryKey;autoIncrement:false"`
	FromID  uint32
	ToID    uint32
	Through uint64
}

// Joining is an agent that comes with the token of another one, and waits to be let in.
type Joining struct {
	AgentID  string `gorm:"size:32;primaryKey"`
	TokenID  uint64 `gorm:"index"`
	Host     string `gorm:"size:255"` // as it claims
	Since    time.Time
	Approved *time.Time
}

// Block is a batch as the host packed it, with what its records show. Times
// are microseconds since 1970. The index heads has all that a search wants to know of a
// block before it is opened, so that it reads nothing else of those that it passes over.
type Block struct {
	ID          uint64 `gorm:"primaryKey;index:heads,priority:3"`
	SheafID     uint64 `gorm:"not null;default:0;index:cask_sheaf,priority:2"` // that its filter is bound into, 0 where it is by itself
	FeedID      uint64 `gorm:"index:feed_number;index:unsettled,priority:2;index:heads,priority:5"`
	FirstNumber uint64 `gorm:"index:feed_number;index:heads,priority:6"`
	LastNumber  uint64 `gorm:"index:heads,priority:7"`
	CaskID      uint64 `gorm:"index:cask_arrived;index:heads,priority:1;index:cask_sheaf,priority:1"`
	LastTime    int64  `gorm:"index:heads,priority:2"`
	FirstTime   int64  `gorm:"index:heads,priority:4"`
	Arrived     int64  `gorm:"index:cask_arrived"`
	Records     int    `gorm:"index:heads,priority:8"`
	Shed        string `gorm:"size:255"` // JSON: how many by severity, "" for none
	Lost        int
	Refused     int    // by the store, as they could not be taken
	Twice       bool   `gorm:"not null;default:false;index:heads,priority:12"` // its records may be in another generation of the feed too
	Severities  uint8  `gorm:"index:heads,priority:9"`
	Facilities  uint32 `gorm:"index:heads,priority:10"`
	BodySize    int64
	Size        int64
	Merged      bool   // it was made of blocks that came before
	Settled     bool   `gorm:"index:unsettled,priority:1"`                     // it is not merged any more
	Moving      bool   `gorm:"not null;default:false;index:heads,priority:13"` // it has come from another shelf, and does not count yet
	Hash        []byte `gorm:"type:binary(32)"`                                // SHA-256 of the payload
	Words       []byte `gorm:"type:mediumblob"`                                // a filter, see block.Words
	WordsApart  bool   `gorm:"index:heads,priority:11"`                        // it is kept in parts
	Minutes     []byte `gorm:"type:mediumblob"`                                // how many records of each minute and severity; empty in blocks of an earlier version
	Kinds       []byte `gorm:"type:mediumblob"`                                // its records by host, app, priority and shape; NULL where nobody has looked yet, empty where there are too many
	Values      []byte `gorm:"column:field_values;type:mediumblob"`            // what values their fields have, by kind; NULL where nobody has looked yet, as in blocks that are not settled, empty where there are too many
	Payload     []byte `gorm:"type:longblob"`
}

// Shape is a shape that texts of a cask have, see core/shape.
type Shape struct {
	CaskID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Key    uint64 `gorm:"primaryKey;autoIncrement:false"`
	Text   []byte `gorm:"type:varbinary(520)"`
	First  int64  // the least time of a record of it, in microseconds since 1970
	Last   int64  // when one came, give or take some hours; likewise
	IsNew  bool   `gorm:"-"` // a batch brings the first of it, as far as this shelf knows
}

// WordPart is a part of the filter of a block, so that what is asked of many
// filters stands together.
type WordPart struct {
	Part    uint8  `gorm:"primaryKey;autoIncrement:false"`
	BlockID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Version uint8
	Cells   []byte `gorm:"type:varbinary(8000)"`
}

// Sheaf is the filters of several blocks of a cask that stand together, see block.Bind.
type Sheaf struct {
	ID        uint64 `gorm:"primaryKey"`
	CaskID    uint64 `gorm:"index:cask_last"`
	LastTime  int64  `gorm:"index:cask_last"` // of a record in its blocks
	FirstTime int64
	Version   uint8
	Groups    int
	Parts     int    // that it is kept in
	Blocks    []byte `gorm:"type:varbinary(1024)"` // their ids, 8 bytes each, least byte first
}

// TableName is the plural of a sheaf.
func (Sheaf) TableName() string { return "sheaves" }

// SheafPart is a part of a sheaf, so that what all sheaves tell of a word stands together.
type SheafPart struct {
	Part    uint8  `gorm:"primaryKey;autoIncrement:false"`
	SheafID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Cells   []byte `gorm:"type:mediumblob"`
}

// Minute counts the records of a cask by their time and severity.
type Minute struct {
	CaskID   uint64 `gorm:"primaryKey;autoIncrement:false"`
	Minute   int64  `gorm:"primaryKey;autoIncrement:false"` // since 1970
	Severity uint8  `gorm:"primaryKey;autoIncrement:false"`
	Count    int64
}

// Order is what a person wants an agent to do.
type Order struct {
	ID      uint64 `gorm:"primaryKey"`
	AgentID string `gorm:"size:32;index:agent_done"`
	Kind    string `gorm:"size:32"`
	By      string `gorm:"size:128"`  // the account, or the label of the token
	Details string `gorm:"type:text"` // JSON: what the kind needs
	Created time.Time
	Done    *time.Time `gorm:"index:agent_done"`
	Outcome string     `gorm:"type:text"` // JSON
}

// Act is a line of the audit trail: what somebody did or read.
type Act struct {
	ID     uint64    `gorm:"primaryKey"`
	At     time.Time `gorm:"index"`
	By     string    `gorm:"size:128"` // the account, or the label of the token
	What   string    `gorm:"size:32"`
	Detail string    `gorm:"type:text"`
}

// View is a search that somebody has kept.
type View struct {
	Owner   string `gorm:"size:80;primaryKey"` // "account NAME" or "token ID", "" for all
	Name    string `gorm:"size:64;primaryKey"`
	Cask    string `gorm:"size:64"` // "" for every one
	Since   string `gorm:"size:32"` // how long ago, such as 1h
	Where   string `gorm:"column:condition_text;type:text"`
	By      string `gorm:"size:128"` // who kept it
	Changed time.Time
}

// Clock is when a service last looked at the time, so that a jump is seen.
type Clock struct {
	ID   uint8 `gorm:"primaryKey;autoIncrement:false"`
	Seen time.Time
}

// Served is which plan of the service an agent says it has in force.
type Served struct {
	Takes    bool   // it takes plans
	Plan     string `gorm:"size:64"`
	Revision int
	Hash     string `gorm:"size:64"` // of what was served
	State    string `gorm:"size:16"`
	Order    uint64 `gorm:"column:order_id"`
	Why      string `gorm:"type:text"`
}

// Revision is an unchangeable state of a plan, or of a part that plans are made of.
type Revision struct {
	ID     uint64 `gorm:"primaryKey"`
	Plan   string `gorm:"size:64;uniqueIndex:plan_number,priority:1"`
	Number int    `gorm:"uniqueIndex:plan_number,priority:2"`
	Text   []byte `gorm:"type:mediumblob"`
	Parts  string `gorm:"type:text"` // JSON: the revision of each part, in their order
	Hash   string `gorm:"size:64"`   // of the text with all its parts
	By     string `gorm:"size:128"`
	At     time.Time
	Why    string `gorm:"type:text"`
}

// PlanInForce is the revision of a plan that hosts are to have: that of its last roll-out.
type PlanInForce struct {
	Plan     string `gorm:"size:64;primaryKey"`
	Revision int
}

// HostLabel says of a host what it is, as an operator or its invitation gave it.
type HostLabel struct {
	AgentID string `gorm:"size:32;primaryKey"`
	Name    string `gorm:"size:32;primaryKey"`
	Value   string `gorm:"size:64"`
}

// HostValue is what a place of a plan stands for on a host.
type HostValue struct {
	AgentID string `gorm:"size:32;primaryKey"`
	Name    string `gorm:"size:64;primaryKey"`
	Text    string `gorm:"type:text"`
}

// LabelValue is likewise for all hosts with a label.
type LabelValue struct {
	Label string `gorm:"size:32;primaryKey"`
	Of    string `gorm:"size:64;primaryKey"`
	Name  string `gorm:"size:64;primaryKey"`
	Text  string `gorm:"type:text"`
}

// Assignment says which hosts get a plan.
type Assignment struct {
	Name      string `gorm:"size:64;primaryKey"`
	Plan      string `gorm:"size:64;index"`
	Condition string `gorm:"column:condition_text;type:text"`
	Approve   bool   // its roll-outs are to be approved by another person
	By        string `gorm:"size:128"`
	Changed   time.Time
}

// Rollout is a revision on its way to hosts.
type Rollout struct {
	ID       uint64 `gorm:"primaryKey"`
	Plan     string `gorm:"size:64;index"`
	Revision int
	Waves    string `gorm:"size:255"`
	Seconds  int    // for which each host judges it
	Failures int    // so many hosts that fail have all of it taken back
	State    string `gorm:"size:16;index"`
	Wave     int    // that is under way, from 0
	By       string `gorm:"size:128"`
	Owner    string `gorm:"size:80;not null;default:''"` // who it is by, as nobody else is named
	Why      string `gorm:"type:text"`
	Approved string `gorm:"size:128"`  // by whom, "" for nobody
	Note     string `gorm:"type:text"` // why it is as it is
	Before   int    // the revision that was in force, 0 for none
	Created  time.Time
	Changed  time.Time
}

// RolloutHost is a host of a roll-out.
type RolloutHost struct {
	RolloutID      uint64 `gorm:"primaryKey;autoIncrement:false"`
	AgentID        string `gorm:"size:32;primaryKey;index"`
	Host           string `gorm:"size:255"`
	Wave           int
	State          string `gorm:"size:16"`
	Why            string `gorm:"type:text"`
	BeforePlan     string `gorm:"size:64"` // that it had, "" for none
	BeforeRevision int
	OrderID        uint64
	Changed        time.Time
}

// Job is work that one service at a time does, and until when it does it.
type Job struct {
	Name   string `gorm:"size:32;primaryKey"`
	Holder string `gorm:"size:32"`
	Until  time.Time
}

// How long one service may be silent while it brings the tables up to date, and how long
// the others wait for it.
const (
	migrateTime  = 30 * time.Second
	migrateAgain = 200 * time.Millisecond
)

// migrate brings the tables up to date. Of several services that start together one does;
// the others wait until it is done, or gone.
func migrate(db *gorm.DB) error {
	if isUpToDate(db) {
		return nil // so that a service starts before a database that cannot be written now
	}
	if err := db.Exec("CREATE TABLE IF NOT EXISTS jobs (name VARCHAR(32) PRIMARY KEY, holder VARCHAR(32), until DATETIME(3) NULL)").Error; err != nil {
		return err
	}
	lease := Lease{Job: "migrate", Holder: NewID(), For: migrateTime}
	for {
		mine, err := lease.Take(db)
		if err != nil {
			return err
		}
		if mine {
			break
		}
		time.Sleep(migrateAgain)
	}
	done, kept := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(kept)
		for tick := time.NewTicker(migrateTime / 6); ; {
			select {
			case <-done:
				return
			case <-tick.C:
				lease.Take(db)
			}
		}
	}()
	err := gormigrate.New(db, gormigrate.DefaultOptions, migrations).Migrate()
	close(done)
	<-kept
	return errors.Join(err, lease.Leave(db))
}

// isUpToDate tells whether all migrations were made.
func isUpToDate(db *gorm.DB) bool {
	var made int64
	err := db.Table(gormigrate.DefaultOptions.TableName).Where("id IN ?", migrationIDs()).Count(&made).Error
	return err == nil && made == int64(len(migrations))
}

func migrationIDs() (ids []string) {
	for _, m := range migrations {
		ids = append(ids, m.ID)
	}
	return ids
}

var migrations = []*gormigrate.Migration{{
	ID: "0001 casks, tokens, agents, feeds, blocks, counts",
	Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&Cask{}, &Token{}, &Agent{}, &Feed{}, &Block{}, &Minute{})
	},
}, {
	ID:      "0002 accounts, sessions",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Account{}, &Session{}) },
}, {
	ID:      "0003 words of blocks",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Block{}) },
}, {
	ID:      "0004 orders",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Order{}) },
}, {
	ID:      "0005 plans of agents",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&AgentPlan{}, &Order{}) },
}, {
	ID:      "0006 what agents said of tallies",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Agent{}) },
}, {
	ID:      "0007 retention, refused records, audit trail",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Cask{}, &Block{}, &Act{}, &Clock{}) },
}, {
	ID:      "0008 invitations, senders of feeds",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Token{}, &Invitation{}, &Feed{}) },
}, {
	ID:      "0009 merged blocks",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Block{}) },
}, {
	ID:      "0010 kept views",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&View{}) },
}, {
	ID:      "0011 parts of filters",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Block{}, &WordPart{}) },
}, {
	ID:      "0012 when tokens were used",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Token{}) },
}, {
	ID:      "0013 tries of passwords",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Try{}) },
}, {
	ID: "0014 identities of agents, invitations for several",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Identity{}, &Invitation{}); err != nil {
			return err
		}
		if err := tx.Exec("UPDATE invitations SET times = 1 WHERE used IS NOT NULL").Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO identities (agent_id, since) SELECT agent_id, MIN(created) FROM tokens WHERE agent_id <> '' GROUP BY agent_id").Error
	},
}, {
	ID: "0015 feeds by cask, runs, who waits to be let in",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&FeedRun{}, &Store{}, &Joining{}, &Token{}, &Block{}); err != nil {
			return err
		}
		if err := tx.Migrator().AutoMigrate(&Feed{}); err != nil {
			return err
		}
		for _, change := range []string{
			"UPDATE feeds SET cask_id = COALESCE((SELECT cask_id FROM blocks WHERE feed_id = feeds.id ORDER BY first_number DESC LIMIT 1), 0)",
			"UPDATE feeds SET generation = 'import' WHERE outlet = 'import' AND NOT EXISTS (SELECT 1 FROM agents WHERE agents.id = feeds.agent_id)",
		} {
			if err := tx.Exec(change).Error; err != nil {
				return err
			}
		}
		if tx.Migrator().HasIndex(&Feed{}, "agent_outlet") {
			if err := tx.Migrator().DropIndex(&Feed{}, "agent_outlet"); err != nil {
				return err
			}
		}
		return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&Store{ID: 1, Name: NewID()}).Error
	},
}, {
	ID: "0016 views of one's own",
	Migrate: func(tx *gorm.DB) error {
		if tx.Migrator().HasColumn(&View{}, "owner") {
			return nil
		}
		return tx.Exec("ALTER TABLE views ADD COLUMN owner VARCHAR(80) NOT NULL DEFAULT '', DROP PRIMARY KEY, ADD PRIMARY KEY (owner, name)").Error
	},
}, {
	ID: "0017 plans, labels, assignments, roll-outs",
	Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&Agent{}, &Invitation{}, &Revision{}, &PlanInForce{}, &HostLabel{}, &HostValue{}, &LabelValue{}, &Assignment{}, &Rollout{}, &RolloutHost{}, &Job{})
	},
}, {
	ID: "0018 who has proposed a roll-out",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Rollout{}); err != nil {
			return err
		}
		return tx.Exec("UPDATE rollouts SET owner = CONCAT('account ', `by`) WHERE owner = ''").Error
	},
}, {
	ID:      "0019 summaries of what agents say",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Agent{}) },
}, {
	ID: "0020 counts beside blocks",
	Migrate: func(tx *gorm.DB) error {
		if tx.Migrator().HasColumn(&Block{}, "minutes") {
			return nil
		}
		return tx.Migrator().AddColumn(&Block{}, "Minutes") // alone, which no server copies a table for
	},
}, {
	ID: "0021 shelves",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Shelf{}, &Move{}, &Store{}, &Cask{}, &Feed{}); err != nil {
			return err
		}
		if !tx.Migrator().HasColumn(&Block{}, "moving") {
			if err := tx.Migrator().AddColumn(&Block{}, "Moving"); err != nil {
				return err
			}
		}
		return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&Shelf{ID: FirstShelf, Name: "first", Size: UsualSize, Created: time.Now()}).Error
	},
}, {
	ID: "0022 an index of what searches want to know of blocks",
	Migrate: func(tx *gorm.DB) error {
		for _, change := range []func() error{
			func() error { return makeIndex(tx, "heads") },
			func() error { return dropIndex(tx, "cask_time") }, // which it stands for
		} {
			if err := change(); err != nil {
				return err
			}
		}
		return nil
	},
}, {
	ID: "0023 sheaves of filters",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Sheaf{}, &SheafPart{}); err != nil {
			return err
		}
		if !tx.Migrator().HasColumn(&Block{}, "sheaf_id") {
			if err := tx.Migrator().AddColumn(&Block{}, "SheafID"); err != nil {
				return err
			}
		}
		return makeIndex(tx, "cask_sheaf")
	},
}, {
	ID: "0024 shapes of texts",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Shape{}); err != nil || tx.Migrator().HasColumn(&Block{}, "kinds") {
			return err
		}
		return tx.Migrator().AddColumn(&Block{}, "Kinds")
	},
}, {
	ID: "0025 alerts",
	Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&Alert{}, &AlertState{}, &Hits{}, &HitsTaken{}, &Notice{}, &NoticeWho{}, &Receiver{}, &Delivery{})
	},
}, {
	ID: "0026 values of fields",
	Migrate: func(tx *gorm.DB) error {
		if tx.Migrator().HasColumn(&Block{}, "field_values") {
			return nil
		}
		return tx.Migrator().AddColumn(&Block{}, "Values")
	},
}, {
	ID:      "0027 systems of hosts",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Agent{}) },
}}

func makeIndex(tx *gorm.DB, name string) error {
	if tx.Migrator().HasIndex(&Block{}, name) {
		return nil
	}
	return tx.Migrator().CreateIndex(&Block{}, name)
}

func dropIndex(tx *gorm.DB, name string) error {
	if !tx.Migrator().HasIndex(&Block{}, name) {
		return nil
	}
	return tx.Migrator().DropIndex(&Block{}, name)
}

// UsualSize is how many bytes a shelf is meant to hold where nobody has said it.
const UsualSize = 1 << 40

// NewID returns 32 random hexadecimal digits.
func NewID() string {
	random := make([]byte, 16)
	rand.Read(random)
	return hex.EncodeToString(random)
}

// StoreID returns what tells this store apart from others.
func StoreID(db *gorm.DB) (string, error) {
	var s Store
	err := db.Take(&s, 1).Error
	return s.Name, err
}

// Open opens the database and brings its tables up to date. The DSN may be several, a line
// each: those of the nodes of one cluster. No error holds the password of a DSN.
func Open(dsn string, log *slog.Logger) (*gorm.DB, error) {
	return open(dsn, log, false, usualPatience)
}

// OpenPatiently opens a database for statements that take hours.
func OpenPatiently(dsn string, log *slog.Logger) (*gorm.DB, error) {
	return open(dsn, log, false, 24*time.Hour)
}

// OpenShelf opens the database of a shelf, whose connections are cut where it stops to
// answer: others go on meanwhile, and nobody is to wait for it.
func OpenShelf(dsn string, log *slog.Logger) (*gorm.DB, error) {
	return open(dsn, log, true, usualPatience)
}

// usualPatience is for how long an answer of the database is waited for, where the DSN
// does not say it.
const usualPatience = time.Minute

func open(dsn string, log *slog.Logger, watched bool, patience time.Duration) (*gorm.DB, error) {
	connector, where, err := connectorOf(dsn, log, watched, patience)
	if err != nil {
		return nil, err
	}
	pool := sql.OpenDB(connector)
	pool.SetMaxOpenConns(16)
	pool.SetMaxIdleConns(8)
	pool.SetConnMaxIdleTime(time.Minute)
	db, err := gorm.Open(gormmysql.New(gormmysql.Config{Conn: pool}), &gorm.Config{TranslateError: true, Logger: logger.Discard, SkipDefaultTransaction: true})
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("the database at %s cannot be opened: %w", where, err)
	}
	if err := migrate(db); err != nil {
		pool.Close()
		return nil, fmt.Errorf("bring the tables up to date: %w", err)
	}
	return db, nil
}

// connectorOf returns what opens connections to the database of a DSN, or to the node of a
// cluster that is to be written to, and the addresses that it connects to.
func connectorOf(dsn string, log *slog.Logger, watched bool, patience time.Duration) (connector driver.Connector, where string, err error) {
	var configs []*mysql.Config
	var addresses []string
	for number, line := range strings.Split(strings.TrimSpace(dsn), "\n") {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		config, err := mysql.ParseDSN(line)
		if err != nil {
			return nil, "", fmt.Errorf("line %d: the DSN of the database cannot be read; write USER:PASSWORD@tcp(HOST:PORT)/DATABASE", number+1)
		}
		complete(config, patience)
		if slices.Contains(addresses, config.Addr) {
			return nil, "", fmt.Errorf("line %d: the DSN names %s a second time; name each node of the cluster once", number+1, config.Addr)
		}
		configs, addresses = append(configs, config), append(addresses, config.Addr)
	}
	switch {
	case len(configs) == 0:
		return nil, "", errors.New("no DSN is there; write USER:PASSWORD@tcp(HOST:PORT)/DATABASE")
	case len(configs) == 1 && !watched:
		connector, err = mysql.NewConnector(configs[0])
	default:
		for i, c := range configs {
			if c.DBName != configs[0].DBName {
				return nil, "", fmt.Errorf("the DSN of %s names database %s, and that of %s %s; all nodes of a cluster have the same", addresses[i], c.DBName, addresses[0], configs[0].DBName)
			}
		}
		connector, err = nodes.New(configs, log)
	}
	return connector, strings.Join(addresses, ", "), err
}

// complete sets what the service needs of a connection, and what the DSN leaves open.
func complete(config *mysql.Config, patience time.Duration) {
	config.ParseTime, config.Loc, config.Logger = true, time.UTC, &mysql.NopLogger{} // what fails is an error of ours
	config.Timeout = cmp.Or(config.Timeout, 5*time.Second)
	config.ReadTimeout, config.WriteTimeout = cmp.Or(config.ReadTimeout, patience), cmp.Or(config.WriteTimeout, patience)
	config.MaxAllowedPacket = max(config.MaxAllowedPacket, 128<<20)
	if config.Params == nil {
		config.Params = map[string]string{}
	}
	config.Params["time_zone"] = "'+00:00'"
}

// CaskNamed returns the cask of a name, which it makes where it is new.
func CaskNamed(db *gorm.DB, name string) (c Cask, err error) {
	err = db.Where(Cask{Name: name}).Attrs(Cask{Created: time.Now()}).FirstOrCreate(&c).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) { // another has made it meanwhile
		err = db.Where("name = ?", name).Take(&c).Error
	}
	return c, err
}
