package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	bolt "go.etcd.io/bbolt"
	"google.golang.org/grpc"
	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"oakbarrel/core/container"
	"oakbarrel/core/lines"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
)

// clusterRuntime stands in for the runtime of a cluster.
type clusterRuntime struct {
	cri.UnimplementedRuntimeServiceServer
	pods       []*cri.PodSandbox
	containers []*cri.Container
	hangs      bool
}

func (r *clusterRuntime) ListPodSandbox(ctx context.Context, _ *cri.ListPodSandboxRequest) (*cri.ListPodSandboxResponse, error) {
	if r.hangs {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return &cri.ListPodSandboxResponse{Items: r.pods}, nil
}

func (r *clusterRuntime) ListContainers(context.Context, *cri.ListContainersRequest) (*cri.ListContainersResponse, error) {
	return &cri.ListContainersResponse{Containers: r.containers}, nil
}

func (r *clusterRuntime) serve(t *testing.T) (socket string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "ob")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket = filepath.Join(dir, "s")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	server := grpc.NewServer()
	cri.RegisterRuntimeServiceServer(server, r)
	go server.Serve(l)
	t.Cleanup(server.Stop)
	return socket
}

// fieldsTold returns the fields that each record of a log gets.
func fieldsTold(s *lines.Settings) string {
	var r record.Record
	s.Fields.AddTo(new(lines.Out), &r)
	return string(r.Data)
}

func TestARuntimeTellsLabels(t *testing.T) {
	r := &clusterRuntime{
		pods: []*cri.PodSandbox{{Id: "p1", Metadata: &cri.PodSandboxMetadata{Name: "pumps-7f", Namespace: "bay", Uid: "0001"}, Labels: map[string]string{"tier": "reef", "team": "pod"}}},
		containers: []*cri.Container{
			{Id: "old", PodSandboxId: "p1", Metadata: &cri.ContainerMetadata{Name: "pumpd", Attempt: 0}, CreatedAt: 1, Labels: map[string]string{"team": "old"}, Image: &cri.ImageSpec{Image: "sha256:1"}},
			{Id: "new", PodSandboxId: "p1", Metadata: &cri.ContainerMetadata{Name: "pumpd", Attempt: 1}, CreatedAt: 2, Labels: map[string]string{"team": "pumps"}, Image: &cri.ImageSpec{Image: "sha256:1", UserSpecifiedImage: "lantern/pump:2"}, State: cri.ContainerState_CONTAINER_RUNNING},
			{Id: "none", PodSandboxId: "p9", Metadata: &cri.ContainerMetadata{Name: "lost"}},
		},
	}
	root := t.TempDir()
	log := filepath.Join(root, "bay_pumps-7f_0001", "pumpd", "1.log")
	c := newContainers(&plan.Files{Engine: container.CRI, Root: root, Socket: r.serve(t)})
	s, why := c.describe(log)
	if got := fieldsTold(s); why != "" || got != `[container@32473 name="pumpd" id="0001/pumpd" image="lantern/pump:2" pod="bay/pumps-7f"][labels@32473 team="pumps" tier="reef"]` {
		t.Errorf("%s %s", got, why)
	}
	if trouble := c.trouble(); trouble != "" {
		t.Error(trouble)
	}
}

// One that hangs, or is not there, holds nobody up for long, and is told.
func TestARuntimeThatDoesNotAnswer(t *testing.T) {
	root := t.TempDir()
	for name, socket := range map[string]string{"hangs": (&clusterRuntime{hangs: true}).serve(t), "is not there": filepath.Join(root, "none")} {
		c := newContainers(&plan.Files{Engine: container.CRI, Root: root, Socket: socket})
		began := time.Now()
		for i := range 50 {
			if s, why := c.describe(filepath.Join(root, fmt.Sprintf("bay_pumps-%d_0001", i), "pumpd", "0.log")); why != "" || fieldsTold(s) == "" {
				t.Errorf("%s: %v, %s", name, s, why)
			}
		}
		if took := time.Since(began); took > 2*askTime {
			t.Errorf("one that %s holds up for %v", name, took)
		}
		if trouble := c.trouble(); !strings.Contains(trouble, "the labels of containers are not known") {
			t.Errorf("%s: %q", name, trouble)
		}
	}
	usual := newContainers(&plan.Files{Engine: container.Podman, Root: root})
	usual.describe(filepath.Join(root, "c0ffee/userdata/ctr.log"))
	if trouble := usual.trouble(); trouble != "" {
		t.Errorf("nobody said that there is one: %s", trouble)
	}
}

func podmanRoot(t *testing.T) (root string) {
	t.Helper()
	root = filepath.Join(t.TempDir(), "overlay-containers")
	os.MkdirAll(filepath.Join(root, "c0ffee", "userdata"), 0o755)
	os.WriteFile(filepath.Join(root, "c0ffee", "userdata", "ctr.log"), nil, 0o600)
	os.WriteFile(filepath.Join(root, "containers.json"), []byte(`[{"id":"c0ffee","names":["pumps"]}]`), 0o600)
	return root
}

func TestPodmanTellsLabels(t *testing.T) {
	for name, setUp := range map[string]func(root string) (socket string){
		"its file": func(root string) string {
			path := filepath.Join(filepath.Dir(root), "libpod", "bolt_state.db")
			os.MkdirAll(filepath.Dir(path), 0o755)
			db, err := bolt.Open(path, 0o600, nil)
			if err != nil {
				t.Fatal(err)
			}
			defer db.Close()
			if err := db.Update(func(tx *bolt.Tx) error {
				ctr, _ := tx.CreateBucket([]byte("ctr"))
				one, _ := ctr.CreateBucket([]byte("c0ffee"))
				one.Put([]byte("config"), []byte(`{"labels":{"team":"pumps"},"rootfsImageName":"lantern/pump:2","logDriver":"k8s-file","spec":{"process":{"env":["PASSWORD=seahorse"]}}}`))
				one.Put([]byte("state"), []byte(`{"state":3}`))
				one.Put([]byte("pod-id"), []byte("f00d"))
				broken, _ := ctr.CreateBucket([]byte("dead"))
				broken.Put([]byte("config"), []byte(`{`))
				pods, _ := tx.CreateBucket([]byte("pod"))
				pod, _ := pods.CreateBucket([]byte("f00d"))
				return pod.Put([]byte("config"), []byte(`{"name":"bay","labels":{"tier":"reef"}}`))
			}); err != nil {
				t.Fatal(err)
			}
			return ""
		},
		"its socket": func(string) string {
			dir, _ := os.MkdirTemp("", "ob")
			t.Cleanup(func() { os.RemoveAll(dir) })
			l, err := net.Listen("unix", filepath.Join(dir, "s"))
			if err != nil {
				t.Fatal(err)
			}
			server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method != "GET" || r.URL.Path != "/v4.0.0/libpod/containers/json" {
					w.WriteHeader(http.StatusNotFound)
				}
				json.NewEncoder(w).Encode([]map[string]any{{"Id": "c0ffee", "Labels": map[string]string{"team": "pumps", "tier": "reef"}, "Image": "lantern/pump:2", "PodName": "bay", "State": "running"}})
			})}
			go server.Serve(l)
			t.Cleanup(func() { server.Close() })
			return l.Addr().String()
		},
	} {
		root := podmanRoot(t)
		c := newContainers(&plan.Files{Engine: container.Podman, Root: root, Socket: setUp(root)})
		s, why := c.describe(filepath.Join(root, "c0ffee/userdata/ctr.log"))
		if got := fieldsTold(s); why != "" || got != `[container@32473 name="pumps" id="c0ffee" image="lantern/pump:2" pod="bay"][labels@32473 team="pumps" tier="reef"]` {
			t.Errorf("%s: %s %s", name, got, why)
		}
		if trouble := c.trouble(); trouble != "" {
			t.Errorf("%s: %s", name, trouble)
		}
	}
	root := podmanRoot(t)
	path := filepath.Join(filepath.Dir(root), "libpod", "bolt_state.db")
	os.MkdirAll(filepath.Dir(path), 0o755)
	os.WriteFile(path, []byte(strings.Repeat("damaged", 4000)), 0o600)
	c := newContainers(&plan.Files{Engine: container.Podman, Root: root})
	if s, why := c.describe(filepath.Join(root, "c0ffee/userdata/ctr.log")); why != "" || !strings.Contains(fieldsTold(s), "pumps") {
		t.Error("a damaged file costs the name: ", s, why)
	}
	if c.trouble() == "" {
		t.Error(errors.New("it is not told"))
	}
}
