#!/usr/bin/env bash
# Makes dist/: dist.sh VERSION [TARGET…], where a target is like linux/amd64.
set -euo pipefail
cd "$(dirname "$0")/.."
version=$1
shift
targets=("$@")
[ ${#targets[@]} -gt 0 ] || targets=(linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64)
dist=$(realpath -m "${DIST:-dist}")
rm -rf "$dist"
mkdir -p "$dist"
SOURCE_DATE_EPOCH=${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct 2>/dev/null || echo 0)}
export SOURCE_DATE_EPOCH CGO_ENABLED=0 TZ=UTC
# What makes packages, pinned; it is no part of this module.
nfpm=github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.43.0
build() { # SYSTEM ARCH OUT
	GOOS=$1 GOARCH=$2 go build -trimpath -buildvcs=false -ldflags "-s -w -buildid= -X trimlantern/cli.Version=$version" -o "$3" ./cmd/trimlantern
}
build "$(go env GOHOSTOS)" "$(go env GOHOSTARCH)" "$dist/.host"
go build -o "$dist/.supply" ./packaging/supply
for target in "${targets[@]}"; do
	os=${target%/*} arch=${target#*/}
	file=trimlantern-$version-$os-$arch
	[ "$os" != windows ] || file=$file.exe
	build "$os" "$arch" "$dist/$file"
	"$dist/.supply" sbom "$dist/$file" "$dist/$file.spdx.json"
	[ "$os" = linux ] || continue
	packaging/tree.sh "$dist/.host" "$dist/root/usr" "$dist/$file"
	find "$dist/root" -exec touch -hd "@$SOURCE_DATE_EPOCH" {} +
	# A version of Debian's begins with a number.
	number=${version#v}
	[[ $number =~ ^[0-9] ]] || number=0~$number
	sed -e "s|\${DIST}|$dist|; s|\${ARCH}|$arch|; s|\${VERSION}|$number|" packaging/nfpm.yaml >"$dist/nfpm.yaml"
	go run "$nfpm" package --config "$dist/nfpm.yaml" --packager deb --target "$dist/trimlantern_${version}_$arch.deb"
	rm -rf "$dist/root"
done
rm -f "$dist/.host" "$dist/.supply" "$dist/nfpm.yaml"
cp cli/notices/licences.txt.gz "$dist/trimlantern-$version-licences.txt.gz"
(cd "$dist" && sha256sum trimlantern* >SHA256SUMS)
ls -l "$dist"
