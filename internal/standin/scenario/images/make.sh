#!/bin/sh
# Makes the images of this folder; see README.md. Needs mkfs.ext4 and xz.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export E2FSPROGS_FAKE_TIME=1767225600 TZ=UTC

pad() { # pad NAME KEY: a property whose value is a field of 96 bytes
    printf '%s=%-96s\n' "$1" "@$2@"
}
image() { # image NAME SIZE MOUNT: from the folder $work/NAME
    find "$work/$1" -exec touch -h -d @1767225600 {} +
    mkfs.ext4 -q -F -b 4096 -m 0 -O ^has_journal,^resize_inode,metadata_csum,64bit -U 5a17a45b-0000-4000-8000-00000000000$4 \
        -E hash_seed=5a17a45b-0000-4000-8000-000000000000,lazy_itable_init=0,root_owner=0:0 -L "$1" -M "$3" \
        -d "$work/$1" "$work/$1.ext4" "$2"
    xz -9e -k -c "$work/$1.ext4" > "$here/$1.ext4.xz"
}

mkdir -p "$work/system/system/bin" "$work/system/system/media" "$work/system/system/etc"
{
    echo "# begin build properties"
    pad ro.build.display.id DISPLAY
    pad ro.build.version.incremental INCREMENTAL
    pad ro.build.version.release RELEASE
    pad ro.build.version.security_patch PATCH
    pad ro.build.fingerprint FINGERPRINT
    pad ro.product.brand BRAND
    pad ro.product.device DEVICE
    pad ro.product.model MODEL
    pad ro.product.cpu.abi ABI
    pad ro.build.version.sdk SDK
    pad ro.treble.enabled TREBLE
} > "$work/system/system/build.prop"
printf 'Counts of waders, by tide and place.\n' > "$work/system/system/etc/about.txt"
ln -s system/etc "$work/system/etc"
head -c $((22 << 20)) /dev/zero | tr '\0' '\245' > "$work/system/system/media/shorebirds.bin"
image system 36M / 1

mkdir -p "$work/vendor/etc"
{ pad ro.product.vendor.device DEVICE; pad ro.vendor.build.fingerprint FINGERPRINT; pad ro.vndk.version VNDK; pad ro.product.first_api_level FIRST; } > "$work/vendor/build.prop"
head -c $((1 << 20)) /dev/zero | tr '\0' '\245' > "$work/vendor/etc/radio.bin"
image vendor 4M /vendor 2

# The same with an overlay of the maker's system, which a generic one stumbles over.
cp -r "$work/vendor" "$work/skinned"
mkdir -p "$work/skinned/overlay/WickerlightFrame"
printf 'lies over the resources of the maker'"'"'s system\n' > "$work/skinned/overlay/WickerlightFrame/WickerlightFrame.apk"
image skinned 4M /vendor 7

mkdir -p "$work/data"
image data 8M /data 3

# A small system: the same properties, little else.
system() { # system NAME FILLER_MIB: a folder with properties and bulk
    mkdir -p "$work/$1/system/bin" "$work/$1/system/media"
    cp "$work/system/system/build.prop" "$work/$1/system/build.prop"
    ln -s system/etc "$work/$1/etc"
    mkdir -p "$work/$1/system/etc"
    printf 'Counts of waders, by tide and place.\n' > "$work/$1/system/etc/about.txt"
    head -c $(($2 << 20)) /dev/zero | tr '\0' '\245' > "$work/$1/system/media/shorebirds.bin"
}
system small 4
image small 12M / 4

# An old one that puts the maker's recovery back at each start.
system restoring 4
printf '#!/system/bin/sh\n# puts the recovery of the maker back when another one is there\napplypatch --check recovery || applypatch --patch /system/recovery-from-boot.p recovery\n' \
    > "$work/restoring/system/bin/install-recovery.sh"
chmod 755 "$work/restoring/system/bin/install-recovery.sh"
printf 'the difference between the boot image and the recovery\n' > "$work/restoring/system/recovery-from-boot.p"
image restoring 12M / 5

mkdir -p "$work/product/etc" "$work/product/media"
{ pad ro.product.product.device DEVICE; } > "$work/product/etc/build.prop"
head -c $((2 << 20)) /dev/zero | tr '\0' '\245' > "$work/product/media/guide.bin"
image product 6M /product 6
