package model

import "time"

// Alert is a question that the store keeps asking, see core/alert.
type Alert struct {
	ID      uint64 `gorm:"primaryKey"`
	Name    string `gorm:"size:64;uniqueIndex"`
	Text    []byte `gorm:"type:mediumblob"` // YAML
	Number  int    // how often it was changed, from 1
	Off     bool   // it asks nothing for now
	By      string `gorm:"size:128"` // who changed it last
	Created time.Time
	Changed time.Time
}

// AlertState is what an alert knows of one who, see alert.State.
type AlertState struct {
	AlertID uint64 `gorm:"primaryKey;autoIncrement:false;index:alert_last,priority:1"`
	Who     string `gorm:"type:varbinary(520);primaryKey"`
	State   string `gorm:"type:mediumtext"` // JSON
	Holds   bool   `gorm:"index"`
	Last    int64  `gorm:"index:alert_last,priority:2"` // when something came, in microseconds since 1970
}

// Hits are what batches say to alerts. They stand on the shelf of the batches, and are committed
// with them, until they are judged.
type Hits struct {
	ID      uint64 `gorm:"primaryKey"`
	Arrived int64  // when the batches came, in microseconds since 1970
	Said    []byte `gorm:"type:mediumblob"` // see PackHits
}

// TableName is the plural.
func (Hits) TableName() string { return "hits" }

// HitsTaken are hits of a shelf that are judged, and perhaps stand there still.
type HitsTaken struct {
	ShelfID uint32 `gorm:"primaryKey;autoIncrement:false"`
	HitsID  uint64 `gorm:"primaryKey;autoIncrement:false"`
}

// TableName is the plural.
func (HitsTaken) TableName() string { return "hits_taken" }

// Notice is what an alert has found, for a person to look at.
type Notice struct {
	ID      uint64     `gorm:"primaryKey"`
	AlertID uint64     `gorm:"index:alert_state"`
	State   string     `gorm:"size:8;index:alert_state;index:state_changed"` // told, seen or done
	CaskID  *uint64    // of the alert, nil for every one
	Alert   string     `gorm:"size:64"`   // its name
	Note    string     `gorm:"type:text"` // its note
	Since   int64      // when it began, in microseconds since 1970
	Until   int64      // when it was so last
	Holds   bool       // it is so now
	Times   int        // it has come
	Pending bool       `gorm:"index"` // there is something that nobody was told
	ToldAt  *time.Time // last
	Told    int        // times
	Muted   *time.Time // until then nobody is told
	By      string     `gorm:"size:128"`  // who is on it
	Why     string     `gorm:"type:text"` // it is done
	Created time.Time
	Changed time.Time `gorm:"index:state_changed"`
}

// NoticeWho is one whom a notice is about.
type NoticeWho struct {
	NoticeID uint64 `gorm:"primaryKey;autoIncrement:false"`
	Who      string `gorm:"type:varbinary(520);primaryKey"`
	Line     string `gorm:"type:mediumtext"`
	Where    string `gorm:"column:condition_text;type:mediumtext"` // which records
	Since    int64
	Until    int64
	Holds    bool
	Times    int
	New      bool // nobody was told yet
}

// Receiver is where notices go.
type Receiver struct {
	Name    string `gorm:"size:64;primaryKey"`
	Kind    string `gorm:"size:8"`                   // mail, webhook or push
	To      string `gorm:"column:address;type:text"` // JSON: what may be shown
	Secret  string `gorm:"type:text"`                // JSON: what may not
	By      string `gorm:"size:128"`
	Changed time.Time
}

// Delivery is a notice on its way to a receiver.
type Delivery struct {
	ID       uint64 `gorm:"primaryKey"`
	NoticeID uint64 `gorm:"index"`
	Receiver string `gorm:"size:64;index"`
	Title    string `gorm:"size:255"`
	Text     string `gorm:"type:mediumtext"`
	Due      time.Time
	Done     *time.Time `gorm:"index"`
	Tries    int
	Trouble  string `gorm:"type:text"`
	Given    bool   // up
	Created  time.Time
}
