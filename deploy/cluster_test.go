// Package deploy checks the manifests that stand beside it.
package deploy

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"oakbarrel/core/plan"
)

// object is what is looked at of the objects of a manifest.
type object struct {
	Kind string
	Data map[string]string
	Spec struct{ Template struct{ Spec pod } }
}

type pod struct {
	HostNetwork, HostPID, HostIPC bool
	AutomountServiceAccountToken  *bool
	Containers                    []struct {
		SecurityContext struct {
			Privileged, AllowPrivilegeEscalation, ReadOnlyRootFilesystem *bool
			Capabilities                                                 struct{ Add, Drop []string }
		}
		VolumeMounts []struct {
			Name     string
			ReadOnly bool
		}
	}
	Volumes []struct{ Name string }
}

// objects returns those of a manifest, as the cluster's own types have them.
func objects(t *testing.T, manifest string) (all map[string]object) {
	t.Helper()
	c := exec.Command("go", "run", ".")
	c.Dir, c.Stdin = "schema", strings.NewReader(manifest)
	var complaints bytes.Buffer
	c.Stderr = &complaints
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%v: %s", err, complaints.String())
	}
	all = map[string]object{}
	for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
		var o object
		if err := d.Decode(&o); err != nil {
			t.Fatal(err)
		}
		all[o.Kind] = o
	}
	return all
}

// The manifest is what the cluster's own types have, without a key that they do not know;
// its plan is in order; and the pod has no right that it does not need.
func TestTheManifestOfACluster(t *testing.T) {
	text, err := os.ReadFile("cluster.yaml")
	if err != nil {
		t.Fatal(err)
	}
	withSocket := strings.NewReplacer("# - ", "- ", "        #   hostPath", "          hostPath").Replace(string(text))
	if c := exec.Command("go", "run", "."); true {
		c.Dir, c.Stdin = "schema", strings.NewReader(strings.Replace(string(text), "hostPath:", "hostPaht:", 1))
		if out, err := c.CombinedOutput(); err == nil || !strings.Contains(string(out), "hostPaht") {
			t.Fatalf("a key that is wrong is let through: %s", out)
		}
	}
	for _, manifest := range []string{string(text), withSocket} {
		all := objects(t, manifest)
		if p, findings := plan.Parse("plan.yaml", []byte(all["ConfigMap"].Data["plan.yaml"])); p == nil || len(findings) > 0 {
			t.Error(findings)
		}
		pod := all["DaemonSet"].Spec.Template.Spec
		agent := pod.Containers[0]
		rights := agent.SecurityContext
		if pod.HostNetwork || pod.HostPID || pod.HostIPC || *pod.AutomountServiceAccountToken || rights.Privileged != nil || *rights.AllowPrivilegeEscalation || !*rights.ReadOnlyRootFilesystem || len(rights.Capabilities.Add) > 0 || !slices.Contains(rights.Capabilities.Drop, "ALL") {
			t.Errorf("the pod has rights: %+v", rights)
		}
		names := map[string]bool{}
		for _, v := range pod.Volumes {
			names[v.Name] = true
		}
		for _, m := range agent.VolumeMounts {
			if !names[m.Name] || !m.ReadOnly && m.Name != "state" && m.Name != "runtime" {
				t.Errorf("the mount %+v", m)
			}
		}
	}
}
