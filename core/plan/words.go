package plan

import (
	"slices"

	"oakbarrel/core/record"
)

// keys are all keys of a plan, whatever they stand in. A test holds them to what is read.
var keys = []string{
	"after", "age", "allow", "at", "basic", "before", "batch", "body", "burst", "bytes", "ca_file", "cask", "access", "certificate", "channel", "channels", "charset", "clients", "columns", "command", "compress", "conditions", "connections", "csv",
	"days", "days_at_most", "decode", "default", "disk", "drop", "engine", "events", "every", "exclude", "file", "files", "fingerprint", "floor", "fold", "folder", "format", "frames", "from", "group", "grpc",
	"gzip", "headers", "hold", "host", "how", "http", "idle", "indented", "intakes", "join", "json", "keep", "keep_raw", "key_file", "keyvalue", "label", "labels", "largest", "levels",
	"limit", "listen", "mail", "mask", "memory", "metrics", "mode", "name", "names", "namespace", "oakbarrel", "open", "otherwise", "outlets", "overflow", "owner", "parts", "password_file", "path", "paths",
	"pattern", "pid_file", "pieces", "plan", "poll", "priority", "proxy", "rate", "records", "roll", "root", "rules", "send", "separator", "server", "service", "settle", "severity", "signal", "since", "size",
	"socket", "source", "spool", "starts", "stream", "sync", "syslog", "tcp", "tend", "text", "then", "time", "times", "tls", "to", "token_file", "total", "udp", "units", "until", "url", "user", "values",
	"wait", "webhook_file", "when", "within", "zone", "zstd",
}

// values are words that stand for something where a key has a choice.
var values = []string{
	"all", "boot", "copy", "counted", "day", "done", "forever", "hour", "month", "none", "now", "own", "rename", "rfc3164", "rfc5424", "served", "shed", "stamped", "week",
}

// conditionWords are those of conditions.
var conditionWords = []string{"agent", "and", "any", "app", "contains", "exists", "facility", "field", "intake", "matches", "missing", "msgid", "not", "or", "peer", "procid", "shape", "unit"}

// Words returns the words of a plan, for who completes them while it is written:
// its keys, the kinds of intakes and outlets, what may stand behind them, the words
// of conditions and the severities. They are in order, each once.
func Words() []string {
	all := slices.Concat(keys, keysOf(intakeKinds), keysOf(outletKinds), values, conditionWords)
	for s := record.Emergency; s <= record.Debug; s++ {
		all = append(all, s.String())
	}
	slices.Sort(all)
	return slices.Compact(all)
}
