package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	bolt "go.etcd.io/bbolt"
	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"oakbarrel/core/container"
	"oakbarrel/core/plan"
)

// What keeps a runtime that does not answer from holding up the reading of logs.
const (
	askTime    = time.Second            // for an answer
	askPause   = 200 * time.Millisecond // between two questions
	failPause  = 5 * time.Second        // after one without an answer
	mostAnswer = 32 << 20               // bytes of one
)

// engine knows of containers what their files do not tell. What it knows is asked for
// once a container comes that it does not know. It is for one goroutine at a time.
type engine struct {
	ask   func(context.Context) (map[string]container.Container, error) // by id; nil where nobody is asked
	known map[string]container.Container
	next  time.Time // when it may be asked again
	why   error     // it did not answer
}

// newEngine returns what is asked for the containers of an intake.
func newEngine(f *plan.Files) *engine {
	r := &engine{}
	switch f.Engine {
	case container.Podman:
		r.ask = func(ctx context.Context) (map[string]container.Container, error) { return askPodman(ctx, f) }
	case container.CRI:
		r.ask = func(ctx context.Context) (map[string]container.Container, error) { return askCRI(ctx, f.Socket) }
	}
	return r
}

// add adds to a container what the engine knows of it. For one that is not known yet it
// asks, at once or, where wait says so, after the pause that is due.
func (r *engine) add(c *container.Container, wait bool) {
	if r.ask == nil {
		return
	}
	of, known := r.known[c.ID]
	if due := time.Until(r.next); !known && (due <= 0 || wait && due <= askPause) {
		time.Sleep(due)
		r.refresh()
		of, known = r.known[c.ID]
	}
	if !known {
		return
	}
	c.Labels, c.Running = of.Labels, of.Running
	for to, value := range map[*string]string{&c.Image: of.Image, &c.Pod: of.Pod, &c.Driver: of.Driver} {
		if value != "" {
			*to = value
		}
	}
}

func (r *engine) refresh() {
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	known, err := r.ask(ctx)
	r.next, r.why = time.Now().Add(askPause), err
	if err != nil {
		r.next = time.Now().Add(failPause)
		return
	}
	r.known = known
}

// askPodman asks the engine's own file, or over its socket where it keeps it in another form.
func askPodman(ctx context.Context, f *plan.Files) (map[string]container.Container, error) {
	path := filepath.Join(filepath.Dir(f.Root), "libpod", "bolt_state.db")
	if _, err := os.Stat(path); err == nil && f.Socket == "" {
		return readPodmanState(path)
	}
	socket := f.Socket
	if socket == "" {
		socket = "/run/podman/podman.sock"
	}
	return askPodmanSocket(ctx, socket)
}

// podmanContainer is what is read of a container's settings. Its environment is not among it.
type podmanContainer struct {
	ID     string            `json:"id"`
	Labels map[string]string `json:"labels"`
	Image  string            `json:"rootfsImageName"`
	Driver string            `json:"logDriver"`
}

// readPodmanState reads the database in which the engine keeps its containers. Readers
// share it with each other, and wait for the engine no longer than a moment.
func readPodmanState(path string) (map[string]container.Container, error) {
	db, err := bolt.Open(path, 0o600, &bolt.Options{ReadOnly: true, Timeout: askTime / 4})
	if err != nil {
		return nil, err
	}
	defer db.Close()
	all := map[string]container.Container{}
	err = db.View(func(tx *bolt.Tx) error {
		containers, pods := tx.Bucket([]byte("ctr")), tx.Bucket([]byte("pod"))
		if containers == nil {
			return errors.New("it has no containers")
		}
		return containers.ForEachBucket(func(id []byte) error {
			b := containers.Bucket(id)
			var of podmanContainer
			var state struct {
				State int `json:"state"`
			}
			if json.Unmarshal(b.Get([]byte("config")), &of) != nil {
				return nil // of another version; the others are read
			}
			json.Unmarshal(b.Get([]byte("state")), &state)
			const running = 3
			c := container.Container{ID: string(id), Labels: of.Labels, Image: of.Image, Driver: of.Driver, Running: state.State == running}
			if pod := b.Get([]byte("pod-id")); pod != nil && pods != nil && pods.Bucket(pod) != nil {
				var p struct {
					Name   string            `json:"name"`
					Labels map[string]string `json:"labels"`
				}
				if json.Unmarshal(pods.Bucket(pod).Get([]byte("config")), &p) == nil {
					c.Pod, c.Labels = p.Name, together(p.Labels, c.Labels)
				}
			}
			all[c.ID] = c
			return nil
		})
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return all, nil
}

// together returns the labels of a pod with those of one of its containers, which come first.
func together(pod, own map[string]string) map[string]string {
	all := maps.Clone(pod)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, own)
	return all
}

// askPodmanSocket asks over the engine's interface.
func askPodmanSocket(ctx context.Context, socket string) (map[string]container.Container, error) {
	transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", socket)
	}}
	defer transport.CloseIdleConnections()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://podman/v4.0.0/libpod/containers/json?all=true", nil)
	if err != nil {
		return nil, err
	}
	answer, err := transport.RoundTrip(request)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s: it answers %s", socket, answer.Status)
	}
	var list []struct {
		ID      string `json:"Id"`
		Labels  map[string]string
		Image   string
		PodName string
		State   string
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, mostAnswer)).Decode(&list); err != nil {
		return nil, fmt.Errorf("%s: %w", socket, err)
	}
	all := map[string]container.Container{}
	for _, c := range list {
		all[c.ID] = container.Container{ID: c.ID, Labels: c.Labels, Image: c.Image, Pod: c.PodName, Running: c.State == "running"}
	}
	return all, nil
}

// runtimeSockets are where the runtimes of clusters listen.
var runtimeSockets = []string{"/run/containerd/containerd.sock", "/run/crio/crio.sock", "/run/k3s/containerd/containerd.sock"}

// askCRI asks a runtime over its interface, which reads only what we ask for: the
// containers, and the pods that they are of.
func askCRI(ctx context.Context, socket string) (map[string]container.Container, error) {
	if socket == "" {
		for _, usual := range runtimeSockets {
			if _, err := os.Stat(usual); err == nil {
				socket = usual
				break
			}
		}
	}
	if socket == "" {
		return nil, fs.ErrNotExist
	}
	conn, err := grpc.NewClient("unix://"+socket, grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithDefaultCallOptions(grpc.MaxCallRecvMsgSize(mostAnswer)))
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	service := cri.NewRuntimeServiceClient(conn)
	pods, err := service.ListPodSandbox(ctx, &cri.ListPodSandboxRequest{})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", socket, err)
	}
	list, err := service.ListContainers(ctx, &cri.ListContainersRequest{})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", socket, err)
	}
	return fromCRI(pods.GetItems(), list.GetContainers()), nil
}

// fromCRI returns the containers by the ids that their logs have: of several that were one
// after the other in the same place, the last.
func fromCRI(pods []*cri.PodSandbox, list []*cri.Container) map[string]container.Container {
	of := map[string]*cri.PodSandbox{}
	for _, p := range pods {
		of[p.GetId()] = p
	}
	all, made := map[string]container.Container{}, map[string]int64{}
	for _, c := range list {
		pod := of[c.GetPodSandboxId()]
		if pod == nil {
			continue
		}
		id := pod.GetMetadata().GetUid() + "/" + c.GetMetadata().GetName()
		if c.GetCreatedAt() < made[id] {
			continue
		}
		image := c.GetImage().GetUserSpecifiedImage()
		if image == "" {
			image = c.GetImage().GetImage()
		}
		made[id] = c.GetCreatedAt()
		all[id] = container.Container{ID: id, Image: image, Labels: together(pod.GetLabels(), c.GetLabels()), Running: c.GetState() == cri.ContainerState_CONTAINER_RUNNING}
	}
	return all
}
