#!/bin/sh
# Runs an example in an empty folder and compares what it prints with what its page shows.
set -eu
place=$(mktemp -d)
trap 'rm -rf "$place"' EXIT
cd "$place"
"$1" > output.txt
diff -u "$2" output.txt
