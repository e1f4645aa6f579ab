#!/bin/sh
# Makes the images of this folder with mkfs.ext4 (e2fsprogs 1.47) and xz. Each
# holds the same tree; expect.txt is what find and sha256sum say of that tree.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export E2FSPROGS_FAKE_TIME=1767225600 TZ=UTC LC_ALL=C
t=$work/tree
mkdir -p "$t/system/many" "$t/deep/er/still"
printf 'ro.product.device=dunlin\n' > "$t/system/build.prop"
printf 'tiny' > "$t/tiny"
: > "$t/empty"
# A file with holes: data at 0, 300 KiB and 9 MiB.
printf 'start' > "$t/holes"
printf 'middle' | dd of="$t/holes" bs=1 seek=307200 conv=notrunc status=none
printf 'end' | dd of="$t/holes" bs=1 seek=9437184 conv=notrunc status=none
awk 'BEGIN { for (i = 0; i < 60000; i++) printf "%08d line of a longer file\n", i }' > "$t/deep/er/long"
i=0
while [ $i -lt 400 ]; do printf '%s' $i > "$t/system/many/file-with-a-rather-long-name-number-$i"; i=$((i+1)); done
ln -s ../tiny "$t/system/short-link"
ln -s /deep/er/still/../long "$t/absolute-link"
ln -s "$(printf 'deep/er/././././././././././././././././././././././././././././././long')" "$t/long-link"
ln -s loop-b "$t/loop-a"; ln -s loop-a "$t/loop-b"
find "$t" -exec touch -h -d @1767225600 {} +
(cd "$t" && find . -type f | sort | xargs sha256sum) > "$here/expect.txt"
make() { # make NAME OPTIONS...
    name=$1; shift
    mkfs.ext4 -q -F -m 0 -U 5a17a45b-0000-4000-8000-000000000001 -E hash_seed=5a17a45b-0000-4000-8000-000000000000,lazy_itable_init=0 \
        -d "$t" "$@" "$work/$name" 24M
    e2fsck -fn "$work/$name" > /dev/null
    xz -9e -c "$work/$name" > "$here/$name.xz"
}
make modern.ext4 -b 4096 -O 64bit,metadata_csum,^has_journal,^resize_inode
make plain.ext4 -b 1024 -O ^64bit,^metadata_csum,^has_journal
make blockmap.ext4 -b 1024 -O ^extents,^64bit,^has_journal
make inline.ext4 -b 4096 -I 512 -O inline_data,64bit,metadata_csum,^has_journal,^resize_inode
make metabg.ext4 -b 1024 -g 1024 -O meta_bg,^resize_inode,64bit,^has_journal
