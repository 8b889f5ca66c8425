package container

import (
	"path/filepath"
	"strings"

	"oakbarrel/core/disk"
)

// InLayer returns the container into whose own file system a path leads, and whether there
// is one: below overlay2/LAYER of docker, or overlay/LAYER of podman.
func InLayer(path string) (c Container, ok bool) {
	parts := strings.Split(filepath.Clean(path), "/")
	for i := 1; i+2 < len(parts); i++ {
		layer := parts[i+1]
		if in := parts[i+2]; in != "diff" && in != "merged" || !isLayer(layer) {
			continue
		}
		data := strings.Join(parts[:i], "/")
		switch parts[i] {
		case "overlay2":
			return dockerOfLayer(data, layer)
		case "overlay":
			return podmanOfLayer(filepath.Join(data, "overlay-containers"), layer)
		}
	}
	return c, false
}

func isLayer(name string) bool {
	return name != "" && strings.Trim(name, "0123456789abcdefghijklmnopqrstuvwxyz-") == ""
}

func dockerOfLayer(data, layer string) (c Container, ok bool) {
	mounts := filepath.Join(data, "image/overlay2/layerdb/mounts")
	ids, err := disk.ReadDir(mounts)
	if err != nil {
		return c, false
	}
	for _, id := range ids {
		mount, err := disk.ReadFile(filepath.Join(mounts, id.Name(), "mount-id"))
		if err == nil && strings.TrimSpace(string(mount)) == layer {
			c, err = readDocker(filepath.Join(data, "containers"), id.Name())
			return c, err == nil
		}
	}
	return c, false
}

func podmanOfLayer(root, layer string) (c Container, ok bool) {
	all, err := listPodman(root)
	if err != nil {
		return c, false
	}
	for _, c := range all {
		if c.Layer != "" && filepath.Base(filepath.Dir(c.Layer)) == layer {
			return c, true
		}
	}
	return c, false
}
