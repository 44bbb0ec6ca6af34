#!/bin/bash
# Makes the images of this folder anew, as root, with the tools of Debian. What is in them is made up here. Other
# versions of the tools lay them out differently, and then testdata/said.txt has to be written anew.
set -euo pipefail
cd "$(dirname "$0")"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
tree=$work/tree
export SOURCE_DATE_EPOCH=1790741700 E2FSPROGS_FAKE_TIME=1790741700

fill() { # SIZE: text that packs well, and not too well
  awk -v n="$1" 'BEGIN { x = 7; while (length(s) < n) { x = (x * 1103515245 + 12345) % 2147483648; s = s sprintf("tram %d stops at %d ", x % 31, x % 97) } printf "%s", substr(s, 1, n) }'
}
mkdir -p "$tree"/etc/"a folder"/deeper
printf '8.4.2\n' >"$tree/etc/version"
fill 9000 >"$tree/long"
fill 30000 >"$tree/longer"
{ fill 3000; head -c 12000 /dev/zero; fill 5000; } >"$tree/hole"
cp --sparse=always "$tree/hole" "$tree/sparse"
: >"$tree/empty"
fill 4096 >"$tree/block"
printf 'x' >"$tree/etc/a folder/deeper/one"
ln "$tree/etc/version" "$tree/etc/again"
ln -s etc/version "$tree/short-link"
ln -s "$(printf 'a-long-way/%.0s' {1..9})version" "$tree/long-link"
for i in {1..30}; do printf '%s' "$i" >"$tree/etc/a folder/a name that takes its room $i"; done
mkfifo "$tree/pipe"
mknod "$tree/console" c 5 1
mknod "$tree/disk" b 259 300
head -c 6000 /dev/zero | tr '\0' 'z' >"$tree/even"
chown 1000:70000 "$tree/etc/version"
chmod 4755 "$tree/long"
find "$tree" -exec touch -h -d @1790741700 {} +
touch -h -d @1790741699.5 "$tree/block"

keep() { gzip -9nc "$1" >"$2.gz"; }
ext() { # NAME OPTION…
  local name=$1 size=$2
  shift 2
  mke2fs -q -F -d "$tree" -U 11111111-2222-3333-4444-555555555555 -E hash_seed=11111111-2222-3333-4444-555555555555 "$@" "$work/$name" "$size"
  keep "$work/$name" "$name"
}
ext ext-blocks 256k -t ext2 -b 1024 -N 64 -O ^resize_inode
ext ext-extents 512k -t ext4 -b 1024 -N 64 -O ^resize_inode,^has_journal,metadata_csum,64bit
ext ext-inline 512k -t ext4 -b 4096 -I 512 -N 64 -O ^resize_inode,^has_journal,inline_data
erofs() { # NAME OPTION…
  local name=$1
  shift
  mkfs.erofs --quiet -T 1790741700 -U 11111111-2222-3333-4444-555555555555 "$@" "$work/$name" "$tree" >/dev/null
  keep "$work/$name" "$name"
}
erofs erofs-plain
erofs erofs-compact -zlz4hc
erofs erofs-packed -zlz4hc -C8192 -Eztailpacking,fragments,dedupe
erofs erofs-full -zlz4 -Elegacy-compress
erofs erofs-chunks --chunksize=4096
erofs erofs-forced -Eforce-inode-extended,noinline_data
erofs erofs-dense -zlz4hc -C16384 -Eall-fragments -Eztailpacking
mkfs.cramfs -N little "$tree" "$work/cramfs-little" >/dev/null && keep "$work/cramfs-little" cramfs-little
mkfs.cramfs -N big "$tree" "$work/cramfs-big" >/dev/null && keep "$work/cramfs-big" cramfs-big
genromfs -d "$tree" -f "$work/romfs" -V tramway && keep "$work/romfs" romfs-plain
for method in zlib rtime none; do
  disable=(-x zlib -x rtime -x lzo)
  [[ $method == none ]] || disable=(-X "$method" -m priority)
  mkfs.jffs2 -d "$tree" -o "$work/j" -e 64KiB -q "${disable[@]}" && keep "$work/j" jffs2-$method
done
mkfs.jffs2 -d "$tree" -o "$work/j" -e 64KiB -q -b && keep "$work/j" jffs2-big
for method in none lzo zlib zstd; do
  mkfs.ubifs -r "$tree" -m 512 -e 15872 -c 80 -x $method -o "$work/ubifs-$method" && keep "$work/ubifs-$method" ubifs-$method
done
printf '[root]\nmode=ubi\nimage=%s\nvol_id=3\nvol_size=600KiB\nvol_type=dynamic\nvol_name=root\n[loader]\nmode=ubi\nimage=%s\nvol_id=1\nvol_type=static\nvol_name=loader\n' "$work/ubifs-zlib" "$tree/longer" >"$work/ubi.ini"
ubinize -o "$work/ubi" -m 512 -p 16KiB -s 256 -Q 77 "$work/ubi.ini" && keep "$work/ubi" ubi-volumes
for method in gzip xz lzo lz4 zstd; do
  mksquashfs "$tree" "$work/s" -quiet -noappend -no-progress -comp $method -b 4096 >/dev/null 2>&1
  keep "$work/s" squashfs-$method
done
mksquashfs "$tree" "$work/s" -quiet -noappend -no-progress -noI -noD -noF -noX -no-fragments -b 4096 >/dev/null 2>&1
keep "$work/s" squashfs-plain
# Every kind of inode in its extended form, which holds an attribute, and a socket.
mkdir "$work/extended"
cp -a "$tree"/{pipe,console,disk,short-link,even} "$work/extended"
mkdir "$work/extended/folder"
python3 - "$work/extended" <<'END'
import os, socket, sys
os.chdir(sys.argv[1])
socket.socket(socket.AF_UNIX).bind("socket")
os.utime("socket", (1790741700, 1790741700))
for name in os.listdir("."):
    os.setxattr(name, "trusted.tram", b"x", follow_symlinks=False)
    os.utime(name, (1790741700, 1790741700), follow_symlinks=False)
os.utime(".", (1790741700, 1790741700))
END
mksquashfs "$work/extended" "$work/s" -quiet -noappend -no-progress -noI -noD -noF -noX -no-fragments -b 4096 >/dev/null 2>&1
keep "$work/s" squashfs-extended
rm "$tree"/{pipe,console,disk,short-link,long-link} "$tree/etc/again"

# Noise that nothing packs, a file with many holes, and a folder of many names.
tree=$work/rare
mkdir -p "$tree/many"
noise() { # SIZE SEED
  LC_ALL=C awk -v n="$1" -v x="$2" 'BEGIN { for (i = 0; i < n; i++) { x = (x * 16807) % 2147483647; printf "%02x", int(x / 8192) % 256 } }' | xxd -r -p
}
noise 5000 3 >"$tree/noise"
{ fill 2000; noise 1500 7; fill 9000; } >"$tree/mixed"
{ for i in {1..14}; do noise 1024 "$i"; head -c 1024 /dev/zero; done; } >"$tree/combed.full"
cp --sparse=always "$tree/combed.full" "$tree/combed"
rm "$tree/combed.full"
head -c 20000 /dev/zero >"$tree/zeros.full"
cp --sparse=always "$tree/zeros.full" "$tree/zeros"
rm "$tree/zeros.full"
for i in {1..60}; do : >"$tree/many/a rather long name of a little file $i"; done
find "$tree" -exec touch -h -d @1790741700 {} +
ext ext-narrow 512k -t ext4 -b 1024 -I 128 -N 128 -O ^resize_inode,^has_journal,metadata_csum
ext ext-indexed 512k -t ext4 -b 1024 -N 128 -O ^resize_inode,^has_journal,metadata_csum,dir_index
e2fsck -fyD "$work/ext-indexed" >/dev/null || true
keep "$work/ext-indexed" ext-indexed
erofs erofs-noise -zlz4hc -C8192
erofs erofs-tails -zlz4hc -Eztailpacking,fragments
erofs erofs-runs --chunksize=4096 -Enoinline_data
erofs erofs-further --chunksize=4096 --blobdev="$work/further"
mksquashfs "$tree" "$work/s" -quiet -noappend -no-progress -comp gzip -b 4096 >/dev/null 2>&1
keep "$work/s" squashfs-holes
mkfs.jffs2 -d "$tree" -o "$work/j" -e 64KiB -q -p && keep "$work/j" jffs2-noise
mkfs.ubifs -r "$tree" -m 512 -e 15872 -c 80 -x lzo -o "$work/ubifs-rare" && keep "$work/ubifs-rare" ubifs-rare
mkfs.cramfs -N little "$tree" "$work/cramfs-rare" >/dev/null && keep "$work/cramfs-rare" cramfs-rare
tree=$work/tree

fat() { # NAME SIZE OPTION…
  local name=$1 size=$2
  shift 2
  truncate -s "$size" "$work/$name"
  mkfs.fat "$@" -i 12345678 --invariant "$work/$name" >/dev/null
  mcopy -smi "$work/$name" "$tree"/* ::
  keep "$work/$name" "$name"
}
fat fat-12 128k -F12 -s1 -r16
fat fat-16 3m -F16 -s1
