module oakbarrel

go 1.26.0

require (
	github.com/goccy/go-yaml v1.19.2
	github.com/klauspost/compress v1.20.4
	github.com/spf13/cobra v1.10.2
	golang.org/x/sys v0.50.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
)
