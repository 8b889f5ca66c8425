// Command schema reads the manifest of a cluster and writes its objects as JSON, one a
// line, as the cluster's own types have them. A key that these do not know is an error. It
// is a module of its own, so that the product does not depend on them.
package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	apps "k8s.io/api/apps/v1"
	core "k8s.io/api/core/v1"
	"sigs.k8s.io/yaml"
)

func main() {
	text, err := io.ReadAll(os.Stdin)
	if err != nil {
		panic(err)
	}
	failed := false
	for _, part := range strings.Split(string(text), "\n---\n") {
		if err := check(part); err != nil {
			fmt.Fprintln(os.Stderr, err)
			failed = true
		}
	}
	if failed {
		os.Exit(1)
	}
}

func check(part string) error {
	var of struct {
		Kind string `json:"kind"`
	}
	if err := yaml.Unmarshal([]byte(part), &of); err != nil {
		return err
	}
	object, known := map[string]interface{}{"Namespace": &core.Namespace{}, "ServiceAccount": &core.ServiceAccount{}, "ConfigMap": &core.ConfigMap{}, "DaemonSet": &apps.DaemonSet{}}[of.Kind]
	if !known {
		return fmt.Errorf("there is a %q, which is not looked at", of.Kind)
	}
	if err := yaml.UnmarshalStrict([]byte(part), object); err != nil {
		return fmt.Errorf("%s: %v", of.Kind, err)
	}
	return json.NewEncoder(os.Stdout).Encode(object)
}
