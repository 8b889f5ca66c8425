package container

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

func TestPodmansContainers(t *testing.T) {
	storage := t.TempDir()
	root := filepath.Join(storage, "overlay-containers")
	write := func(path, content string) {
		t.Helper()
		os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755)
		if err := os.WriteFile(filepath.Join(root, path), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("containers.json", `[{"id":"c0ffee0123456789","names":["reef-pump"],"layer":"1a7e","metadata":"{\"image-name\":\"localhost/lantern/pump:2\"}"},
		{"id":"d0ffee0123456789","names":[],"layer":"../../etc","metadata":"no JSON"},
		{"id":"../../../etc","names":["evil"]},{"id":"","names":["none"]}]`)
	write("c0ffee0123456789/userdata/ctr.log", "")
	write("c0ffee0123456789/userdata/attach", "")
	all, err := List(Podman, root)
	if err != nil || len(all) != 2 {
		t.Fatal(all, err)
	}
	want := []string{
		fmt.Sprintf("d0ffee012345  %s journald false ", ""),
		fmt.Sprintf("reef-pump localhost/lantern/pump:2 %s k8s-file true %s", filepath.Join(root, "c0ffee0123456789/userdata/ctr.log"), filepath.Join(storage, "overlay/1a7e/diff")),
	}
	for i, c := range all {
		if got := fmt.Sprintf("%s %s %s %s %v %s", c.Name, c.Image, c.Log, c.Driver, c.Running, c.Layer); got != want[i] {
			t.Errorf("%s\nwant %s", got, want[i])
		}
	}
	if c, err := Of(Podman, root, filepath.Join(root, "c0ffee0123456789/userdata/ctr.log")); err != nil || c.Name != "reef-pump" {
		t.Error(c, err)
	}
	if c, err := Of(Podman, root, filepath.Join(root, "ffff/userdata/ctr.log")); err == nil {
		t.Error("an unknown one is taken for ", c)
	}
	if advice := all[0].Advise(); len(advice) != 1 || advice[0].What != "its output is in the journal" {
		t.Error(advice)
	}
	os.WriteFile(filepath.Join(root, "containers.json"), []byte("{"), 0o600)
	if _, err := List(Podman, root); err == nil {
		t.Error("a list that cannot be read is none")
	}
}

func TestWhoseLayerAFileIsIn(t *testing.T) {
	docker := filepath.Dir(engineFolder(t, `{"ID":"`+id+`","Name":"/ticket-web","Config":{"Image":"lantern/web:3","Labels":{"team":"tickets"}}}`, "{}"))
	podman := t.TempDir()
	os.MkdirAll(filepath.Join(podman, "overlay-containers"), 0o755)
	os.WriteFile(filepath.Join(podman, "overlay-containers", "containers.json"), []byte(`[{"id":"c0ffee","names":["reef-pump"],"layer":"1a7e"}]`), 0o600)
	for path, want := range map[string]string{
		filepath.Join(docker, "overlay2/layer1/diff/var/log/pump.log"):   "ticket-web",
		filepath.Join(docker, "overlay2/layer1/merged/var/log/pump.log"): "ticket-web",
		filepath.Join(docker, "overlay2/layer2/diff/var/log/pump.log"):   "",
		filepath.Join(docker, "overlay2/layer1/work/x.log"):              "",
		filepath.Join(docker, "overlay2/../../x/diff/x.log"):             "",
		filepath.Join(podman, "overlay/1a7e/diff/srv/pump.log"):          "reef-pump",
		filepath.Join(podman, "overlay/ffff/diff/srv/pump.log"):          "",
		"/var/log/overlay2/x.log":                                        "",
		"/var/log/pump.log":                                              "",
	} {
		if c, ok := InLayer(path); ok != (want != "") || c.Name != want {
			t.Errorf("%s is of %q, want %q", path, c.Name, want)
		}
	}
}
