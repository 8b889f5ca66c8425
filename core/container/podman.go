package container

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"oakbarrel/core/disk"
)

// podmanEntry is a container in the list that the engine keeps beside the folders.
type podmanEntry struct {
	ID       string   `json:"id"`
	Names    []string `json:"names"`
	Layer    string   `json:"layer"`
	Metadata string   `json:"metadata"` // JSON
}

// listPodman reads the list of the containers below a root.
func listPodman(root string) (all []Container, err error) {
	var entries []podmanEntry
	if err := readJSON(filepath.Join(root, "containers.json"), &entries); err != nil {
		return nil, err
	}
	for _, e := range entries {
		if isContainerID(e.ID) {
			all = append(all, e.container(root))
		}
	}
	return all, nil
}

// isContainerID keeps what others could have written from leading elsewhere.
func isContainerID(id string) bool {
	return id != "" && strings.Trim(id, "0123456789abcdef") == ""
}

func (e *podmanEntry) container(root string) Container {
	c := Container{ID: e.ID, Log: filepath.Join(root, e.ID, "userdata", "ctr.log"), Driver: "k8s-file"}
	c.Name = c.ShortID()
	if len(e.Names) > 0 {
		c.Name = e.Names[0]
	}
	var of struct {
		Image string `json:"image-name"`
	}
	if json.Unmarshal([]byte(e.Metadata), &of) == nil {
		c.Image = of.Image
	}
	if _, err := disk.Lstat(c.Log); errors.Is(err, fs.ErrNotExist) {
		c.Log, c.Driver = "", "journald" // as it is by default; that it is thrown away, the engine tells
	}
	if _, err := disk.Lstat(filepath.Join(root, e.ID, "userdata", "attach")); err == nil {
		c.Running = true
	}
	if storage, kind := filepath.Split(root); kind == "overlay-containers" && isContainerID(e.Layer) {
		c.Layer = filepath.Join(storage, "overlay", e.Layer, "diff")
	}
	return c
}

// ofPodman returns the container in whose folder a log is.
func ofPodman(root, path, id string) (Container, error) {
	all, err := listPodman(root)
	if err != nil {
		return Container{}, err
	}
	for _, c := range all {
		if c.ID == id {
			return c, nil
		}
	}
	return Container{}, &fs.PathError{Op: "find the container of", Path: path, Err: fs.ErrNotExist}
}
