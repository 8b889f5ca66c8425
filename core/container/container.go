// Package container knows what container engines write about containers on the
// disk: who they are, how their output is kept, and what they write into their
// own file systems. It only reads, and never what is in a container's environment.
//
// Its central type is [Container].
package container

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"oakbarrel/core/disk"
)

// The engines whose files are understood.
const (
	Docker = "docker" // JSON lines files
	CRI    = "cri"    // the form of the container runtime interface
	Podman = "podman" // the same form, in a folder of each container
)

// Root is where an engine keeps the logs of containers, unless it is told otherwise.
func Root(engine string) string {
	switch engine {
	case Docker:
		return "/var/lib/docker/containers"
	case Podman:
		return "/var/lib/containers/storage/overlay-containers"
	}
	return "/var/log/pods"
}

// Patterns returns the patterns of the logs below a root, with those that were rolled.
func Patterns(engine, root string) []string {
	if engine == Docker {
		return []string{filepath.Join(root, "*", "*-json.log"), filepath.Join(root, "*", "*-json.log.*")}
	}
	if engine == Podman {
		return []string{filepath.Join(root, "*", "userdata", "ctr.log")}
	}
	return []string{filepath.Join(root, "*", "*", "*.log"), filepath.Join(root, "*", "*", "*.log.*"), filepath.Join(root, "*", "userdata", "ctr.log")}
}

// Container is what is known of one container.
type Container struct {
	ID     string
	Name   string
	Image  string            // "" where the files do not tell
	Labels map[string]string // likewise
	Pod    string            // NAMESPACE/POD of the CRI's containers, else ""

	Running  bool
	Terminal bool
	Driver   string            // how its output is kept, such as "json-file"
	Options  map[string]string // of the driver
	Log      string            // the path of the log, "" for none
	Layer    string            // the folder of what it writes into its own file system, "" where it is not known
}

// Of returns the container whose log is at a path below a root.
func Of(engine, root, path string) (Container, error) {
	rest, err := filepath.Rel(root, path)
	if err != nil || strings.HasPrefix(rest, "..") {
		return Container{}, fmt.Errorf("%s is not below %s", path, root)
	}
	parts := strings.Split(rest, "/")
	switch engine {
	case Docker:
		return readDocker(root, parts[0])
	case Podman:
		return ofPodman(root, path, parts[0])
	}
	return ofCRI(root, path, parts)
}

// ofCRI reads the names in NAMESPACE_POD_UID/CONTAINER/NUMBER.log, or of the folder
// that a runtime without pods has for a container.
func ofCRI(root, path string, parts []string) (Container, error) {
	if len(parts) != 3 {
		return Container{}, fmt.Errorf("%s is not the log of a container", path)
	}
	c := Container{Log: path, Driver: "k8s-file", Running: true}
	if parts[1] == "userdata" {
		c.ID = parts[0]
		c.Name = c.ShortID()
		names(root, &c)
		return c, nil
	}
	pod := strings.Split(parts[0], "_")
	if len(pod) != 3 {
		return Container{}, fmt.Errorf("%s is not the folder of a pod: NAMESPACE_POD_UID", parts[0])
	}
	c.ID, c.Name, c.Pod = pod[2]+"/"+parts[1], parts[1], pod[0]+"/"+pod[1]
	return c, nil
}

// names looks the name of a container up in the list that a runtime without
// pods keeps beside the folders.
func names(root string, c *Container) {
	b, err := disk.ReadFile(filepath.Join(root, "containers.json"))
	if err != nil {
		return
	}
	var all []struct {
		ID    string   `json:"id"`
		Names []string `json:"names"`
	}
	if json.Unmarshal(b, &all) != nil {
		return
	}
	for _, known := range all {
		if known.ID == c.ID && len(known.Names) > 0 {
			c.Name = known.Names[0]
		}
	}
}

// ShortID returns the beginning of the id, by which people name a container.
func (c *Container) ShortID() string { return c.ID[:min(len(c.ID), 12)] }

// What the engine writes of a container. Its environment is not among it.
type dockerConfig struct {
	ID      string
	Name    string
	LogPath string
	State   struct{ Running bool }
	Config  struct {
		Image  string
		Labels map[string]string
		Tty    bool
	}
}

type dockerHost struct {
	LogConfig struct {
		Type   string
		Config map[string]string
	}
}

func readDocker(root, id string) (c Container, err error) {
	var config dockerConfig
	var host dockerHost
	if err := readJSON(filepath.Join(root, id, "config.v2.json"), &config); err != nil {
		return c, err
	}
	if err := readJSON(filepath.Join(root, id, "hostconfig.json"), &host); err != nil {
		return c, err
	}
	c = Container{ID: id, Name: strings.TrimPrefix(config.Name, "/"), Image: config.Config.Image, Labels: config.Config.Labels, Running: config.State.Running, Terminal: config.Config.Tty,
		Driver: host.LogConfig.Type, Options: host.LogConfig.Config, Log: config.LogPath}
	data := filepath.Dir(root)
	if mount, err := disk.ReadFile(filepath.Join(data, "image/overlay2/layerdb/mounts", id, "mount-id")); err == nil {
		c.Layer = filepath.Join(data, "overlay2", filepath.Base(strings.TrimSpace(string(mount))), "diff")
	}
	return c, nil
}

func readJSON(path string, to any) error {
	b, err := disk.ReadFile(path)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, to); err != nil {
		return &fs.PathError{Op: "read", Path: path, Err: err}
	}
	return nil
}

// List returns the containers below a root, also those whose output no file
// holds, in the order of their names.
func List(engine, root string) (all []Container, err error) {
	if engine == Podman {
		if all, err = listPodman(root); err != nil {
			return nil, err
		}
	} else if engine == Docker {
		entries, err := disk.ReadDir(root)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if c, err := readDocker(root, e.Name()); err == nil {
				all = append(all, c)
			}
		}
	} else {
		for _, pattern := range []string{filepath.Join(root, "*", "*", "*.log"), filepath.Join(root, "*", "userdata", "ctr.log")} {
			found, _ := filepath.Glob(pattern)
			for _, path := range found {
				c, err := Of(engine, root, path)
				if err == nil && !slices.ContainsFunc(all, func(o Container) bool { return o.ID == c.ID }) {
					all = append(all, c)
				}
			}
		}
	}
	slices.SortFunc(all, func(a, b Container) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	return all, nil
}

// Advice is what is wrong with how a container's output is kept, and the remedy.
type Advice struct {
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Advise tells what is wrong with how a container's output is kept.
func (c *Container) Advise() (all []Advice) {
	if c.Driver == "k8s-file" {
		return nil
	}
	const anew = "; it holds for containers that are made anew, and the engine must be started anew where it is set for all"
	switch c.Driver {
	case "json-file":
	case "journald":
		return []Advice{{"its output is in the journal", "read it there: an intake journal: {}; or set the log driver json-file, or k8s-file of podman" + anew}}
	case "none":
		return []Advice{{"its output is thrown away", "set the log driver json-file" + anew}}
	default:
		return []Advice{{fmt.Sprintf("the log driver %s keeps its output in a form that cannot be read from outside", c.Driver), "set the log driver json-file" + anew}}
	}
	size := c.Options["max-size"]
	if size == "" || size == "-1" {
		return []Advice{{"its log has no size limit, and grows until the disk is full", "set max-size=10m and max-file=3" + anew}}
	}
	if n := c.Options["max-file"]; n == "" || n == "1" {
		all = append(all, Advice{"its log has one file: what is in it when it is full is gone at once", "set max-file=3" + anew})
	}
	return all
}
