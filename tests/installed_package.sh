#!/bin/sh
# Installs the build into an empty place and builds and runs a stranger's project against it.
set -eu
build=$1 stranger=$2
place=$(mktemp -d)
trap 'rm -rf "$place"' EXIT
cmake --install "$build" --prefix "$place/prefix" >/dev/null
cmake -S "$stranger" -B "$place/build" -G Ninja -DCMAKE_PREFIX_PATH="$place/prefix" -DCMAKE_BUILD_TYPE=Release >/dev/null
cmake --build "$place/build" >/dev/null
cd "$place"
out=$("$place/build/stranger")
echo "$out"
case "$out" in
  *" 50.0") ;;
  *) echo "unexpected: $out"; exit 1 ;;
esac
# The installed tool finds the example data that were installed with it.
"$place/prefix/bin/katoptra" demo "$place/demo" --quiet
test -s "$place/demo/out/report.html"
