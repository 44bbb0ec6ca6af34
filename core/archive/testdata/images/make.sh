#!/bin/bash
# Makes the archives of this folder anew, as root, with the tools of Debian. What is in them is made up here. Other
# versions of the tools lay them out differently, and then testdata/said.txt has to be written anew.
set -euo pipefail
cd "$(dirname "$0")"
here=$PWD
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
tree=$work/tree
export SOURCE_DATE_EPOCH=1790741700 TZ=UTC

fill() { awk -v n="$1" 'BEGIN { x = 7; while (length(s) < n) { x = (x * 1103515245 + 12345) % 2147483648; s = s sprintf("tram %d stops at %d ", x % 31, x % 97) } printf "%s", substr(s, 1, n) }'; }
mkdir -p "$tree"/images/deeper
fill 700 >"$tree/images/main.img"
printf '8.4.2\n' >"$tree/version"
: >"$tree/empty"
printf 'x' >"$tree/images/deeper/$(printf 'a name that is long %.0s' {1..6}).bin"
printf 'y' >"$tree/images/straße.txt"
fill 600 >"$tree/sparse"
truncate -s 40000 "$tree/sparse"
printf end >>"$tree/sparse"
ln "$tree/version" "$tree/again"
ln -s images/main.img "$tree/link"
chmod 750 "$tree/images/main.img"
chown 3000000:3000001 "$tree/empty"
(cd "$tree" && printf 'one' >a && gzip -9nc a >a.gz && rm a && tar --mtime=@1790741700 -cf inner.tar version)
find "$tree" -exec touch -h -d @1790741700 {} +
cd "$tree"
list() { find . -mindepth 1 "$@" | LC_ALL=C sort; }
pack() { rm -f "$work/p"; cat >"$work/p"; gzip -9nc "$work/p" >"$here/$1.gz"; }
for format in v7 ustar gnutar pax; do
  list | bsdtar -cnf - --format $format -T - 2>/dev/null | pack tar-$format
done
tar --sort=name --mtime=@1790741700 -cf - --format=gnu --sparse . | pack tar-gnusparse
tar --sort=name --mtime=@1790741700 -cf - --format=pax --pax-option=delete=atime,delete=ctime --sparse --hard-dereference . | pack tar-paxsparse
touch -d @-5 empty
tar --sort=name -cf - --format=gnu version empty link again | pack tar-numbers
touch -d @1790741700 empty
tar --sort=name --mtime=@1790741700 -cf - --format=pax --pax-option=delete=atime,delete=ctime,globexattr.x=y,size:=6 version | pack tar-given
tar --sort=name --mtime=@1790741700 -cf - --format=oldgnu -V tramway version images | pack tar-label
for format in newc odc; do list | bsdtar -cnf - --format $format -T - | pack cpio-$format; done
list | cpio --quiet -o -H crc --reproducible | pack cpio-crc
list | cpio --quiet -o -H bin --reproducible 2>/dev/null | pack cpio-bin
list -type f ! -name sparse | bsdtar -cnf - --format arbsd -T - 2>/dev/null | pack ar-bsd
(cd images && ar rcD "$work/g.a" main.img ../version "deeper"/*) && pack ar-gnu <"$work/g.a"
list | zip -qXy -9 - -@ | pack zip-streamed
list | zip -qX -9 "$work/z.zip" -@ && pack zip-deflate <"$work/z.zip"
list -type f | zip -qX0 "$work/s.zip" -@
pack zip-stored <"$work/s.zip"
list -type f | zip -qX -fz "$work/q.zip" -@ && pack zip-large <"$work/q.zip"
zip -qX -P secret "$work/e.zip" version images/main.img && pack zip-locked <"$work/e.zip"
{ printf '#!/bin/sh\nexit 0\n'; cat "$work/z.zip"; } | pack zip-behind
seven() { # NAME OPTION…
  local name=$1
  shift
  rm -f "$work/7.${name%-*}"
  7zz a -bso0 -bsp0 -mtc=off -mtm=on "$@" "$work/7.${name%-*}" . >/dev/null && pack "$name" <"$work/7.${name%-*}"
}
seven 7z-lzma2
seven 7z-lzma -m0=lzma -ms=off
seven 7z-filtered -m0=bcj -m1=lzma2 -mhc=off
seven 7z-deflate -m0=deflate
seven 7z-bzip2 -m0=bzip2
seven 7z-ppmd -m0=ppmd
seven 7z-stored -mx=0
seven 7z-links -snl -snh
seven 7z-apart -ms=off -mhc=off
seven 7z-locked -psecret
seven 7z-hidden -psecret -mhe=on
seven zip-deflate64 -mm=deflate64
seven zip-bzip2 -mm=bzip2
seven zip-lzma -mm=lzma
iso() { # NAME OPTION…
  local name=$1
  shift
  genisoimage -quiet -V TRAMWAY "$@" -o "$work/i" . 2>/dev/null
  pack "$name" <"$work/i"
}
iso iso-plain -iso-level 1
iso iso-rock -R
iso iso-joliet -J
iso iso-both -R -J
iso iso-udf -udf -iso-level 3
cat >"$work/tram.spec" <<'SPEC'
Name: tramway-switch
Version: 8.4.2
Release: 3
Summary: Software of the tramway's switches
License: made up
URL: https://brackwater.example/
BuildArch: noarch
Requires: tramway-loader >= 3.2
Provides: tramway-image
%description
Software that is made up.
%files
/images
%attr(640,root,root) /version
/link
SPEC
for payload in gzip:w9.gzdio xz:w6.xzdio plain:w.ufdio; do
  mkdir -p "$work/root"
  cp -a images version link "$work/root/"
  rpmbuild -bb --quiet --buildroot "$work/root" --define "_topdir $work/rpm" --define "_binary_payload ${payload#*:}" --define 'use_source_date_epoch_as_buildtime 1' \
    --define '_buildhost tramway.example' --define 'clamp_mtime_to_source_date_epoch 1' --define '__spec_install_post %{nil}' --target noarch "$work/tram.spec" >/dev/null 2>&1
  pack "rpm-${payload%%:*}" <"$work"/rpm/RPMS/noarch/*.rpm
done
