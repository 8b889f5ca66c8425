#!/bin/sh
# Builds the packages for Debian and the zips for Windows, amd64 and arm64, into dist/. Run by: make package
set -eu
export CGO_ENABLED=0
cd "$(dirname "$0")/.."
nfpm=github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0
flags="-s -w -X oakbarrel/client.built=$(date -u +%Y-%m-%dT%H:%M:%SZ) -X oakbarrel/client.commit=$(git describe --always --dirty=+ --abbrev=12 2>/dev/null || true)"
build=$(mktemp -d)
trap 'rm -rf "$build"' EXIT
umask 022
go run ./packaging/pages "$build"
gzip -9n "$build"/man/*.1
version=$(go run ./cmd/oakbarrel version --output json | sed 's/.*"version":"\([^"]*\)".*/\1/')
version=${PACKAGE_VERSION:-$version}
printf 'oakbarrel (%s-1) stable; urgency=medium\n\n  * What has changed stands in the history of the project.\n\n -- Lantern Bay <keepers@lantern.example>  %s\n' "$version" "$(LC_ALL=C date -u -R)" | gzip -9n >"$build/changelog.gz"
mkdir -p dist
for arch in ${ARCHITECTURES:-amd64 arm64}; do
  GOOS=linux GOARCH=$arch go build -tags nomsgpack -trimpath -ldflags "$flags" -o "$build/oakbarrel" ./cmd/oakbarrel
  sed -e "s|@ARCH@|$arch|; s|@VERSION@|$version|; s|@BUILD@|$build|" packaging/nfpm.yaml >"$build/nfpm.yaml"
  go run $nfpm package --config "$build/nfpm.yaml" --packager deb --target dist/
  windows=$build/windows-$arch
  mkdir "$windows"
  GOOS=windows GOARCH=$arch go build -tags nomsgpack -trimpath -ldflags "$flags" -o "$windows/oakbarrel.exe" ./cmd/oakbarrel
  cp docs/windows.md packaging/windows/plan.yaml packaging/copyright "$windows"
  (cd "$windows" && rm -f "$OLDPWD/dist/oakbarrel_${version}_windows_$arch.zip" && zip -q "$OLDPWD/dist/oakbarrel_${version}_windows_$arch.zip" ./*)
done
