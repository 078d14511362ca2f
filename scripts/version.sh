#!/bin/sh
# Prints the version of what is checked out: the number in VERSION where its tag is, and one before it elsewhere.
set -eu
cd "$(dirname "$0")/.."
number=$(cat VERSION)
if [ "$(git describe --tags --exact-match --dirty 2>/dev/null)" = "v$number" ]; then
  echo "$number"
else
  echo "$number~$(git describe --always --dirty --exclude '*' 2>/dev/null || echo dev)"
fi
