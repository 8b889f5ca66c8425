package model

import (
	"database/sql"
	"errors"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
	"gorm.io/gorm"
)

// tries is how often a transaction is tried that gets in the way of another one.
const tries = 6

// inTheWay are the errors of transactions that met another one: a deadlock, also with what
// another node of a cluster has committed, a lock that was waited for in vain, a row that
// has changed, and a commit that a cluster refuses.
var inTheWay = []uint16{1213, 1205, 1020, 1180}

// InTheWay tells whether an error says that a transaction met another one: it was taken
// back as a whole, and may be tried again.
func InTheWay(err error) bool {
	var refusal *mysql.MySQLError
	return errors.As(err, &refusal) && slices.Contains(inTheWay, refusal.Number)
}

// Transact is a transaction that is tried again where it meets another one, as many hosts
// that begin at a time bring it about. do is called several times then, and begins anew
// each time.
func Transact(db *gorm.DB, do func(tx *gorm.DB) error, options ...*sql.TxOptions) (err error) {
	for n := range tries {
		if err = db.Transaction(do, options...); !InTheWay(err) {
			return err
		}
		time.Sleep(time.Duration(n+1) * (5*time.Millisecond + rand.N(20*time.Millisecond)))
	}
	return err
}
