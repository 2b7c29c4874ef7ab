#!/bin/sh
# pier-patches: puts in one waiting patch a run, and says when there is none left.
# A site would call its package manager here; this one works without a network.
set -eu
mkdir -p /var/lib/pier/patches
for patch in 1 2; do
  if [ ! -e /var/lib/pier/patches/$patch ]; then
    touch /var/lib/pier/patches/$patch
    echo "1 patch was put in"
    exit 0
  fi
done
echo "nothing more to do"
