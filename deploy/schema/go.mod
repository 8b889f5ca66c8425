module oakbarrel/deploy/schema

go 1.16

require (
	k8s.io/api v0.22.17
	sigs.k8s.io/yaml v1.2.0
)
