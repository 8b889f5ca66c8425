// Package deploy checks the manifests that stand beside it.
package deploy

import (
	"os"
	"slices"
	"strings"
	"testing"

	apps "k8s.io/api/apps/v1"
	core "k8s.io/api/core/v1"
	"sigs.k8s.io/yaml"

	"oakbarrel/core/plan"
)

// The manifest is what the cluster's own types have, without a key that they do not know;
// its plan is in order; and the pod has no right that it does not need.
func TestTheManifestOfACluster(t *testing.T) {
	text, err := os.ReadFile("cluster.yaml")
	if err != nil {
		t.Fatal(err)
	}
	whole := strings.NewReplacer("# - ", "- ", "        #   hostPath", "          hostPath").Replace(string(text)) // with the runtime's socket
	for _, text := range []string{string(text), whole} {
		var config core.ConfigMap
		var set apps.DaemonSet
		of := map[string]any{"Namespace": new(core.Namespace), "ServiceAccount": new(core.ServiceAccount), "ConfigMap": &config, "DaemonSet": &set}
		for part := range strings.SplitSeq(text, "\n---\n") {
			var kind struct {
				Kind string `json:"kind"`
			}
			if err := yaml.Unmarshal([]byte(part), &kind); err != nil {
				t.Fatal(err)
			}
			if to := of[kind.Kind]; to == nil {
				t.Errorf("there is a %q", kind.Kind)
			} else if err := yaml.UnmarshalStrict([]byte(part), to); err != nil {
				t.Errorf("%s: %v", kind.Kind, err)
			}
		}
		if p, findings := plan.Parse("plan.yaml", []byte(config.Data["plan.yaml"])); p == nil || len(findings) > 0 {
			t.Error(findings)
		}
		pod := set.Spec.Template.Spec
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
