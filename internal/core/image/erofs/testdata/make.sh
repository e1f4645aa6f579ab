#!/bin/sh
# Makes the images of this folder with mkfs.erofs (erofs-utils 1.5) and xz, all
# of one tree; expect.txt is what find and sha256sum say of that tree.
#
#     make.sh [NEXT]
#
# NEXT is a folder with the erofs-utils 1.8 of Debian 13, which has the other
# algorithms: debootstrap --variant=minbase --include=erofs-utils trixie NEXT
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export TZ=UTC LC_ALL=C
t=$work/tree
mkdir -p "$t/system/many" "$t/deep/er/still"
printf 'ro.product.device=dunlin\n' > "$t/system/build.prop"
printf 'tiny' > "$t/tiny"
: > "$t/empty"
awk 'BEGIN { for (i = 0; i < 6000; i++) printf "%08d line of a longer file\n", i * i }' > "$t/deep/er/long"
awk 'BEGIN { srand(7); for (i = 0; i < 14000; i++) printf "%c", 33 + int(rand() * 90) }' > "$t/deep/noise"
{ cat "$t/deep/noise"; head -c 300000 /dev/zero; head -c 30000 "$t/deep/er/long"; cat "$t/deep/noise"; } > "$t/mixed"
head -c 5000 "$t/deep/noise" > "$t/unpackable"
i=0
while [ $i -lt 150 ]; do printf '%s' $i > "$t/system/many/file-with-a-rather-long-name-number-$i"; i=$((i+1)); done
ln -s ../tiny "$t/system/short-link"
ln -s /deep/er/still/../long "$t/absolute-link"
ln -s loop-b "$t/loop-a"; ln -s loop-a "$t/loop-b"
find "$t" -exec touch -h -d @1767225600 {} +
(cd "$t" && find . -type f | sort | xargs sha256sum) > "$here/expect.txt"
make() { # make NAME OPTIONS...
    name=$1; shift
    $mkfs -T 1767225600 -U 5a17a45b-0000-4000-8000-000000000002 "$@" "$work/$name" "$t" > /dev/null
    xz -9e -c "$work/$name" > "$here/$name.xz"
}
mkfs=mkfs.erofs next=${1:-}
if [ -n "$next" ]; then
    lib=$next/usr/lib/$(uname -m)-linux-gnu
    mkfs="$(echo "$lib"/ld-linux*.so.2) --library-path $lib $next/usr/bin/mkfs.erofs"
    make lzma.erofs -zlzma
    make lzma-big.erofs -zlzma,9 -C65536 -Eztailpacking
    make deflate.erofs -zdeflate
    make deflate-fragments.erofs -zdeflate,9 -C65536 -Efragments,dedupe
    make zstd.erofs -zzstd
    make zstd-legacy.erofs -zzstd -C32768 -Elegacy-compress
    make zstd-dedupe.erofs -zzstd,19 -C65536 -Eall-fragments,dedupe
    printf '65536 1 mixed\n65536 0 long\n' > "$work/hints"
    make two.erofs -zlz4hc:lzma -C65536 --compress-hints="$work/hints"
    make small-blocks.erofs -zlzma -b1024 -C16384
    exit
fi
make plain.erofs
make lz4.erofs -zlz4
make lz4hc-big.erofs -zlz4hc,9 -C65536
make legacy.erofs -zlz4 -E legacy-compress
make legacy-big.erofs -zlz4hc -C32768 -E force-inode-extended,legacy-compress
make tails.erofs -zlz4hc -C16384 -Eztailpacking
make chunks.erofs --chunksize=8192
make fragments.erofs -zlz4hc -C65536 -Efragments
make legacy-fragments.erofs -zlz4 -Efragments,legacy-compress
