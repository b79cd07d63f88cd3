#!/bin/sh
# Makes the Debian package and the container image of a static binary: deploy/package.sh BINARY VERSION ARCH OUTPUT.
# The same input makes the same bytes. With IMAGE=no it leaves the image out, which needs the right to mount.
set -eu
binary=$(realpath "$1") version=$2 arch=$3 output=$(realpath "$4")
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export FILES="$work/files" VERSION="$version" ARCH="$arch"

mkdir -p "$work/files" "$work/image/data"
cp "$binary" "$work/files/tovik"
cp "$binary" "$work/image/tovik"
if [ "$arch" = "$(go env GOHOSTARCH)" ]; then run="$binary"; else run="go run ./cmd/tovik"; fi
$run man | gzip -9n > "$work/files/tovik.1.gz"
$run completion bash > "$work/files/tovik.bash"
$run config init "$work/files/tovik.toml" > /dev/null
gzip -9n < CHANGELOG.md > "$work/files/NEWS.gz"
sed 's|^# A systemd unit.*|# The unit of the package. systemctl reload tovik applies changes of /etc/tovik/tovik.toml.|; /^# the configuration in/d; s|/usr/local/bin/tovik|/usr/bin/tovik|' \
	deploy/tovik.service > "$work/files/tovik.service"
go tool -modfile=tools/go.mod nfpm package --config deploy/debian/nfpm.yaml --packager deb --target "$output/tovik_${version}_$arch.deb" > /dev/null

[ "${IMAGE:-yes}" = no ] && exit

cp deploy/container/Containerfile "$work/image/"
buildah="buildah --storage-driver vfs --root $work/store --runroot $work/run"
$buildah build --quiet --isolation chroot --arch "$arch" --timestamp 1767225600 --tag tovik "$work/image" > /dev/null
$buildah push --quiet tovik "oci:$work/oci:localhost/tovik:$version" > /dev/null
tar --create --file "$output/tovik-$version-$arch.oci.tar" --sort name --mtime @1767225600 --owner 0 --group 0 --numeric-owner --mode go=rX,u+rw --directory "$work/oci" .
