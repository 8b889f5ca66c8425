# make demo and make test do all the set-up that they need.

STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2
export CGO_ENABLED = 0

.PHONY: build demo cluster-demo test race soak lint others bench fuzz setup screenshots console describe package package-test windows-test

build: console
	go build -tags nomsgpack -trimpath -ldflags "-s -w -X oakbarrel/client.built=$$(date -u +%Y-%m-%dT%H:%M:%SZ) -X oakbarrel/client.commit=$$(git describe --always --dirty=+ --abbrev=12 2>/dev/null)" -o bin/oakbarrel ./cmd/oakbarrel

demo: build
	@./setup.sh mariadbd:mariadb-server
	@exec bin/oakbarrel demo

# Lantern Bay with a store of which any part may be killed.
cluster-demo: build
	@./setup.sh mariadbd:mariadb-server rsync:rsync ss:iproute2
	@exec bin/oakbarrel demo --cluster --dir lantern-bay-cluster

test: setup console
	go test -count=1 -timeout 14m ./...

# The pages of the console, which the binary embeds.
console: console/dist/index.html

console/dist/index.html: console/package-lock.json console/openapi.json console/index.html console/vite.config.ts console/tsconfig.json $(filter-out console/src/schema.d.ts,$(wildcard console/src/*))
	cd console && npm ci --no-audit --no-fund --loglevel=error && npm run build --loglevel=error 

# The description of the service's interface, anew: the console's types are made of it.
describe: setup
	OAKBARREL_DESCRIBE=1 go test -count=1 -run TheConsoleKnowsTheInterface ./service/api

# What works with several goroutines again, looking for data races; with WHOLE=./e2e whole processes too. It needs gcc.
race: setup console
	CGO_ENABLED=1 OAKBARREL_RACE=1 go test -count=1 -race -timeout 20m ./core/roll ./core/tail ./core/disk/... ./core/memo ./core/spool ./agent/... ./service/... $(WHOLE)

lint: console/lint/node_modules
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo 'run: gofmt -w .'; exit 1; }
	go vet ./...
	go run $(STATICCHECK) ./...
	cd console && lint/node_modules/.bin/eslint --config lint/eslint.config.js src

# Other machines: arm64, whose tests of what computes and keeps files run in a stand-in for its processor, and the
# systems on which commands that read are of use.
others: console
	@./setup.sh qemu-aarch64-static:qemu-user-static
	GOARCH=arm64 go test -count=1 -exec qemu-aarch64-static ./core/wire ./core/record ./core/block ./core/spool ./core/roll ./core/disk/...
	GOARCH=arm64 go build -o /dev/null ./cmd/oakbarrel
	GOOS=darwin GOARCH=arm64 go build -o /dev/null ./cmd/oakbarrel
	GOOS=freebsd GOARCH=amd64 go build -o /dev/null ./cmd/oakbarrel
	GOOS=windows GOARCH=amd64 go vet ./cmd/... ./cli ./client/... ./core/wire ./core/record ./core/event ./core/tail ./core/plan ./agent/intake ./agent/outlet ./agent/doctor
	for arch in amd64 arm64; do GOOS=windows GOARCH=$$arch go build -o /dev/null ./cmd/oakbarrel || exit 1; done

# What looks through the console's source stands apart, so that building it needs less.
console/lint/node_modules: console/lint/package-lock.json
	cd console/lint && npm ci --no-audit --no-fund --loglevel=error && touch node_modules

bench: setup
	go test -run '^$$' -bench . -benchtime 1x -timeout 30m ./bench

# Half an hour each of kills, cut and slow connections and rolled files on the whole road from hosts into the
# store; of what the programs, containers, compressors and disks of one host do; of a real engine's containers; of
# files that come and go; of what dies and stops of a cluster, shelves and services; and ten minutes of the demo.
soak: setup console
	OAKBARREL_SOAK=$${OAKBARREL_SOAK:-30m} go test -count=1 -v -timeout 150m -run '$(or $(SOAK),TestSoak)' ./e2e

# A minute for each fuzz target.
fuzz:
	@grep -rho --include=*_test.go 'func Fuzz[A-Za-z0-9]*' core | wc -l | xargs echo targets:
	@for f in $$(grep -rl --include=*_test.go 'func Fuzz' core); do \
	  for target in $$(grep -o 'func Fuzz[A-Za-z0-9]*' $$f | cut -c6-); do \
	    go test ./$$(dirname $$f) -run '^$$' -fuzz "^$$target$$" -fuzztime 60s || exit 1; \
	  done; \
	done

# Packages for Debian and zips for Windows, amd64 and arm64, into dist/.
package: console
	@./setup.sh zip:zip
	packaging/build.sh

# The package of this machine's kind, in a Debian that is booted beside this one.
package-test: setup console
	@./setup.sh systemd-nspawn:systemd-container man:man-db
	@test -x /sbin/init || ./setup.sh init:systemd-sysv
	@./setup.sh zip:zip
	ARCHITECTURES=amd64 packaging/build.sh
	OAKBARREL_PACKAGE=$$(ls -t $(CURDIR)/dist/*_amd64.deb | head -1) go test -count=1 -v -timeout 20m -run TestPackage ./e2e

# The build for Windows, in a stand-in for that system; OAKBARREL_KILLS=200 kills it more often.
windows-test: setup console
	@./setup.sh /usr/lib/wine/wine64:wine64 x86_64-w64-mingw32-gcc:gcc-mingw-w64-x86-64-win32
	OAKBARREL_WINE=1 go test -count=1 -v -timeout 40m -run TestWindows ./e2e

# The pictures of docs/screenshots, made anew from the demo.
screenshots: build
	docs/screenshots/make.sh

# What looks through figures and alerts. Of Debian's package it alone is taken, as the rest would start a daemon.
bin/promtool:
	@mkdir -p bin/open && cd bin/open && { apt-get -o APT::Sandbox::User=root download -qq prometheus || { apt-get update -qq && apt-get -o APT::Sandbox::User=root download -qq prometheus; }; } && dpkg-deb -x prometheus_*.deb . && mv usr/bin/promtool .. && rm -r $(CURDIR)/bin/open

# What the tests run beside Go: programs that send syslog, the standard compressors, a web server, the database, a browser.
setup: bin/promtool
	@./setup.sh logger:bsdutils python3:python3 perl:perl zstd:zstd gzip:gzip mariadbd:mariadb-server chromium:chromium nginx:nginx-light dockerd:docker.io podman:podman conmon:conmon runc:runc busybox:busybox-static rsync:rsync ss:iproute2 mariadb-backup:mariadb-backup
