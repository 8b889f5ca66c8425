package plan

import "oakbarrel/core/disk"

// BoundsFile is where a host's owner says what a plan from the service may do.
var BoundsFile = disk.CommonData(`OakBarrel\bounds.yaml`)

// lacking are the keys of what this system does not have, and what to write in their place.
var lacking = map[string]string{
	"socket":     "Windows has no socket for syslog; write udp or tcp",
	"stream":     "Windows has no socket for syslog; write tcp",
	"kernel":     "what Windows itself says stands in its log of events: events: {channels: [System]}",
	"journal":    "Windows has a log of events: events: {channels: [Application, System]}",
	"containers": "the logs of containers are files: files: {paths: ['…']}",
	"pipes":      "Windows has no such pipes; write tcp, or have the program write into a file",
	"owner":      "files have the rights of their folder; set them there",
	"group":      "files have the rights of their folder; set them there",
	"mode":       "files have the rights of their folder; set them there",
	"signal":     "Windows has no signals; write command: [PROGRAM, ARGUMENT], or how: copy",
}

// shell runs a line.
var shell = []string{"cmd", "/c"}
