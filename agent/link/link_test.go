package link

import (
	"encoding/json"
	"strings"
	"testing"

	"oakbarrel/client"
	"oakbarrel/core/tail"
)

// What an agent says of itself fits into what the service takes, and begins with the
// files that need attention most.
func TestAStatusFits(t *testing.T) {
	s := client.Status{Host: "reef-02"}
	for range 100 {
		s.Followed = append(s.Followed, client.FollowedFile{File: tail.File{Path: "/srv/" + strings.Repeat("x", 4096)}})
	}
	s.Followed[0].Path = "/srv/worst.log"
	fitted := fit(s)
	b, err := json.Marshal(fitted)
	if err != nil || len(b) > client.MostStatus || len(fitted.Followed) < 20 || fitted.Followed[0].Path != "/srv/worst.log" {
		t.Errorf("%d bytes with %d files, %v", len(b), len(fitted.Followed), err)
	}
	if small := fit(client.Status{Host: "reef-02"}); small.Host != "reef-02" {
		t.Error(small.Host)
	}
}
