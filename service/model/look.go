package model

import (
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Finding is something about a database that will hurt, and what to do about it.
type Finding struct{ What, Mend string }

// leastPacket is what the database must take at once: a batch of a full block, with
// what is kept beside it.
const leastPacket = 40 << 20

// MostBlock returns how many bytes a block may have for the database to take it, with
// what is kept beside it.
func MostBlock(db *gorm.DB) (int64, error) {
	var packet int64
	err := db.Raw("SELECT @@global.max_allowed_packet").Scan(&packet).Error
	return max(packet-besideBlock, leastBlock), err
}

const (
	besideBlock = 512 << 10 // bytes of a block's row that are not the block
	leastBlock  = 64 << 10
)

// mostApart is how far the clocks of the service and of the database may be apart.
const mostApart = 5 * time.Second

// Look looks at how a database is set up, and tells what will hurt.
func Look(db *gorm.DB) (found []Finding, err error) {
	var is struct {
		Packet  int64
		Charset string
		Now     time.Time
	}
	err = db.Raw("SELECT @@global.max_allowed_packet AS packet, @@character_set_database AS charset, UTC_TIMESTAMP(6) AS now").Scan(&is).Error
	if err != nil {
		return nil, err
	}
	if is.Packet < leastPacket {
		found = append(found, Finding{fmt.Sprintf("the database takes no more than %d MiB at once, so that agents are told to send smaller batches", is.Packet>>20), "set max_allowed_packet=64M in the database's configuration"})
	}
	if is.Charset != "utf8mb4" {
		found = append(found, Finding{"the database's character set is " + is.Charset + ", so that not every name can be kept", "make the database with CHARACTER SET utf8mb4"})
	}
	if apart := time.Since(is.Now).Round(time.Second).Abs(); apart > mostApart {
		found = append(found, Finding{fmt.Sprintf("the database's clock is %s from this machine's", apart), "let both follow a time server"})
	}
	var engines []string
	if err = db.Raw("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' AND engine <> 'InnoDB' ORDER BY table_name").Scan(&engines).Error; err != nil {
		return found, err
	}
	for _, table := range engines {
		found = append(found, Finding{"table " + table + " is not of InnoDB: what is committed there may be lost with a power cut, and batches are not taken as a whole", "ALTER TABLE " + table + " ENGINE=InnoDB, while no service runs"})
	}
	return found, nil
}
