# What follows may come to be run as root, so nobody else may be able to put another in its place: the program, and every
# folder above it, belong to root or to who runs this, and no others write there. A sticky folder will do: in it nobody
# takes away what is another's.
umask 077
me=$(id -u)
refuse() { echo "$1: somebody else can put another program there, so that it is not run" >&2; exit 1; }
own() { [ -n "$(find "$1" -prune \( -user 0 -o -user "$me" \) \( ! -perm /022 -o -type d -perm -1000 \))" ] || refuse "$1"; }
above() { # every folder from / to one, without the links on the way
  at=$(cd "$1" && pwd -P) || exit 1
  while own "$at" && [ "$at" != / ]; do at=$(dirname "$at"); done
}
