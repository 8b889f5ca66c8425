package container

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const id = "9b46794e33f3aa01"

// engineFolder makes the folder of an engine with one container.
func engineFolder(t *testing.T, config, host string) (root string) {
	t.Helper()
	data := t.TempDir()
	root = filepath.Join(data, "containers")
	for path, content := range map[string]string{
		filepath.Join(root, id, "config.v2.json"):                            config,
		filepath.Join(root, id, "hostconfig.json"):                           host,
		filepath.Join(data, "image/overlay2/layerdb/mounts", id, "mount-id"): "layer1\n",
		filepath.Join(data, "overlay2/layer1/diff/var/log/pump.log"):         strings.Repeat("x", 1000),
		filepath.Join(data, "overlay2/layer1/diff/tmp/cache"):                "12345",
	} {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

func TestAContainerIsDescribedWithoutItsEnvironment(t *testing.T) {
	root := engineFolder(t, `{"ID":"`+id+`","Name":"/ticket-web","LogPath":"/x/`+id+`-json.log","State":{"Running":true},
		"Config":{"Image":"lantern/web:3","Labels":{"team":"tickets"},"Tty":true,"Env":["PASSWORD=seahorse"]}}`,
		`{"LogConfig":{"Type":"json-file","Config":{"max-size":"10m","max-file":"3"}}}`)
	c, err := Of(Docker, root, filepath.Join(root, id, id+"-json.log.1"))
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprintf("%+v", c)
	for _, want := range []string{"ID:" + id, "Name:ticket-web", "Image:lantern/web:3", "team:tickets", "Running:true", "Terminal:true", "Driver:json-file", "max-size:10m", "overlay2/layer1/diff"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is not in %s", want, got)
		}
	}
	if strings.Contains(got, "seahorse") {
		t.Error("the environment is read:", got)
	}
	if all, err := List(Docker, root); err != nil || len(all) != 1 || all[0].Name != "ticket-web" {
		t.Error(all, err)
	}
	if advice := c.Advise(); advice != nil {
		t.Error(advice)
	}
}

func TestAContainerWhoseFilesCannotBeRead(t *testing.T) {
	for _, config := range []string{"", "{", `{"Config":{"Labels":[]}}`} {
		root := engineFolder(t, config, "{}")
		if c, err := Of(Docker, root, filepath.Join(root, id, "x-json.log")); err == nil {
			t.Errorf("%q is taken for %+v", config, c)
		} else if !strings.Contains(err.Error(), "config.v2.json") {
			t.Error(err)
		}
		if all, err := List(Docker, root); err != nil || len(all) != 0 {
			t.Error(all, err) // the others are listed all the same
		}
	}
}

func TestNamesOfPodsAndOfContainersWithoutThem(t *testing.T) {
	root := t.TempDir()
	os.WriteFile(filepath.Join(root, "containers.json"), []byte(`[{"id":"c0ffee0123456789","names":["reef-pump"]}]`), 0o600)
	for path, want := range map[string]string{
		"bay_pumps-7f_0001/pumpd/0.log":                 "pumpd bay/pumps-7f 0001/pumpd",
		"bay_pumps-7f_0001/pumpd/0.log.20261125-101500": "pumpd bay/pumps-7f 0001/pumpd",
		"c0ffee0123456789/userdata/ctr.log":             "reef-pump  c0ffee0123456789",
		"d0ffee0123456789/userdata/ctr.log":             "d0ffee012345  d0ffee0123456789",
		"pumps/pumpd/0.log":                             "error",
		"0.log":                                         "error",
	} {
		got := "error"
		if c, err := Of(CRI, root, filepath.Join(root, path)); err == nil {
			got = c.Name + " " + c.Pod + " " + c.ID
		}
		if got != want {
			t.Errorf("%s is %q, want %q", path, got, want)
		}
	}
	if _, err := Of(CRI, root, "/elsewhere/a/b/0.log"); err == nil {
		t.Error("a path of another folder is taken")
	}
}

func TestAdvice(t *testing.T) {
	for _, c := range []struct {
		driver, size, files, want string
	}{
		{"json-file", "10m", "3", ""},
		{"json-file", "", "", "no size limit"},
		{"json-file", "-1", "5", "no size limit"},
		{"json-file", "10m", "1", "one file"},
		{"json-file", "10m", "", "one file"},
		{"local", "10m", "3", "cannot be read from outside"},
		{"journald", "", "", "is in the journal"},
		{"none", "", "", "thrown away"},
		{"k8s-file", "", "", ""},
	} {
		some := Container{Driver: c.driver, Options: map[string]string{"max-size": c.size, "max-file": c.files}}
		got := some.Advise()
		if c.want == "" {
			if got != nil {
				t.Errorf("%v: %v", c, got)
			}
			continue
		}
		if len(got) != 1 || !strings.Contains(got[0].What, c.want) || got[0].Remedy == "" {
			t.Errorf("%v: %v", c, got)
		}
	}
}

func TestWhatALayerHoldsAndWhatOfItGrows(t *testing.T) {
	root := engineFolder(t, "{}", "{}")
	folder := filepath.Join(filepath.Dir(root), "overlay2/layer1/diff")
	os.Symlink("/etc", filepath.Join(folder, "elsewhere")) // is not followed
	before := ReadLayer(context.Background(), folder)
	if before.Bytes != 1005 || !before.Whole {
		t.Errorf("%+v", before)
	}
	os.WriteFile(filepath.Join(folder, "var/log/pump.log"), make([]byte, 1100), 0o600)
	os.WriteFile(filepath.Join(folder, "var/log/new.log"), make([]byte, 400), 0o600)
	os.WriteFile(filepath.Join(folder, "tmp/cache"), nil, 0o600)
	after := ReadLayer(context.Background(), folder)
	if got := fmt.Sprint(after.Since(before, 5)); got != "[{/var/log/new.log 400 400} {/var/log/pump.log 1100 100}]" {
		t.Error(got)
	}
	if got := after.Since(before, 1); len(got) != 1 {
		t.Error(got)
	}
	ended, end := context.WithCancel(context.Background())
	end()
	if ReadLayer(ended, folder).Whole {
		t.Error("a look that was broken off calls itself whole")
	}
}
