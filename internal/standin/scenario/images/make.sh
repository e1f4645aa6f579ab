#!/bin/bash
# Makes the images of this folder; see README.md. Needs mkfs.ext4, mkfs.erofs and xz.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export E2FSPROGS_FAKE_TIME=1767225600 TZ=UTC
. "$here/vintf/device.sh"

pad() { # pad NAME KEY: a property whose value is a field of 96 bytes
    printf '%s=%-96s\n' "$1" "@$2@"
}
program() { # program FILE CLASS MACHINE: the head of an ELF program (elf.h), 64 bytes
    mkdir -p "$(dirname "$1")"
    { printf "\\177ELF\\$(printf %03o "$2")\\001\\001\\000\\000\\000\\000\\000\\000\\000\\000\\000\\003\\000\\$(printf %03o "$3")\\000\\001\\000\\000\\000"; head -c 40 /dev/zero; } > "$1"
    chmod 755 "$1"
}
image() { # image NAME SIZE MOUNT NUMBER: from the folder $work/NAME
    find "$work/$1" -exec touch -h -d @1767225600 {} +
    mkfs.ext4 -q -F -b 4096 -m 0 -O ^has_journal,^resize_inode,metadata_csum,64bit -U 5a17a45b-0000-4000-8000-0000000000$(printf %02d "$4") \
        -E hash_seed=5a17a45b-0000-4000-8000-000000000000,lazy_itable_init=0,root_owner=0:0 -L "${1%%[0-9-]*}" -M "$3" \
        -d "$work/$1" "$work/$1.ext4" "$2"
    xz -9e -k -c "$work/$1.ext4" > "$here/$1.ext4.xz"
}
filler() { # filler FILE MIB: bytes that are exchanged for made-up ones
    mkdir -p "$(dirname "$1")"
    head -c $(($2 << 20)) /dev/zero | tr '\0' '\245' > "$1"
}
interface() { # interface FOLDER VERSIONS MAPPINGS: the vendor versions a system takes
    mkdir -p "$1/system/apex" "$1/system/etc/selinux/mapping"
    for v in $2; do printf 'libraries for vendors of version %s\n' "$v" > "$1/system/apex/com.android.vndk.v$v.apex"; done
    for v in $3; do printf '; maps the policy of version %s\n' "$v" > "$1/system/etc/selinux/mapping/$v.cil"; done
}
all="28 29 30 31 32 33 34"
mapped="28.0 29.0 30.0 31.0 32.0 33.0 34.0"

# Systems made for one phone: their properties and programs are filled in.
system() { # system NAME FILLER_MIB
    local d=$work/$1
    mkdir -p "$d/system/bin" "$d/system/etc"
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
    } > "$d/system/build.prop"
    printf 'Counts of waders, by tide and place.\n' > "$d/system/etc/about.txt"
    ln -s system/etc "$d/etc"
    ln -s /system/bin/init "$d/init"
    for f in init:INIT linker:LINKER linker64:LINKER64; do printf '%-96s' "@${f#*:}@" > "$d/system/bin/${f%:*}"; done
    interface "$d" "$all" "$mapped"
    filler "$d/system/media/shorebirds.bin" "$2"
}
system system 8
image system 20M / 1
system small 4
image small 12M / 4
# For tests, which write and read it a thousand times.
system tiny 1
image tiny 6M / 7
# An old one that puts the maker's recovery back at each start.
restoring() { # restoring NAME FILLER_MIB SIZE NUMBER
    system "$1" "$2"
    printf '#!/system/bin/sh\n# puts the recovery of the maker back when another one is there\napplypatch --check recovery || applypatch --patch /system/recovery-from-boot.p recovery\n' \
        > "$work/$1/system/bin/install-recovery.sh"
    chmod 755 "$work/$1/system/bin/install-recovery.sh"
    printf 'the difference between the boot image and the recovery\n' > "$work/$1/system/recovery-from-boot.p"
    image "$1" "$3" / "$4"
}
restoring restoring 4 12M 5
restoring tinyrestoring 1 6M 8

# Vendor partitions, one for each version of the interface.
vendor() { # vendor VNDK
    local d=$work/vendor$1
    mkdir -p "$d/etc/vintf" "$d/etc/selinux"
    { pad ro.product.vendor.device DEVICE; pad ro.vendor.build.fingerprint FINGERPRINT; pad ro.vndk.version VNDK; pad ro.product.first_api_level FIRST
        echo ro.vendor.product.cpu.abilist=arm64-v8a,armeabi-v7a,armeabi; } > "$d/build.prop"
    filler "$d/etc/radio.bin" 1
    device_manifest "$1" > "$d/etc/vintf/manifest.xml"
    device_matrix "$1" > "$d/etc/vintf/compatibility_matrix.xml"
    printf '%s.0' "$1" > "$d/etc/selinux/plat_sepolicy_vers.txt"
    program "$d/bin/hw/android.hardware.health-service.wickerlight" 2 183
}
vendor 28
# With an overlay of the maker's system, which a generic one stumbles over.
mkdir -p "$work/vendor28/overlay/WickerlightFrame"
printf 'lies over the resources of the maker'"'"'s system\n' > "$work/vendor28/overlay/WickerlightFrame/WickerlightFrame.apk"
vendor 29
vendor 30
vendor 33
n=10
for v in 28 29 30 33; do image vendor$v 4M /vendor $n; n=$((n + 1)); done

mkdir -p "$work/data"
image data 8M /data 3

mkdir -p "$work/product/etc"
{ pad ro.product.product.device DEVICE; } > "$work/product/etc/build.prop"
filler "$work/product/media/guide.bin" 2
image product 6M /product 6

# Generic systems: the same for every phone.
generic() { # generic NAME VERSION BUILD RELEASE SDK PATCH ABIS FILLER_MIB
    local d=$work/$1
    mkdir -p "$d/system/etc/vintf" "$d/system/etc/init/config"
    cat > "$d/system/build.prop" <<PROPS
# begin build properties
ro.build.display.id=Saltmarsh GSI $2
ro.build.version.incremental=$3
ro.build.version.release=$4
ro.build.version.sdk=$5
ro.build.version.security_patch=$6
ro.build.fingerprint=saltmarsh/generic/generic:$4/$3/1:user/release-keys
ro.product.brand=Saltmarsh
ro.product.device=generic
ro.product.model=Saltmarsh GSI
ro.product.cpu.abi=${7%%,*}
ro.product.cpu.abilist=$7
ro.treble.enabled=true
PROPS
    ln -s system/etc "$d/etc"
    printf '/product\n/system_ext\n' > "$d/system/etc/init/config/skip_mount.cfg"
    filler "$d/system/media/shorebirds.bin" "$8"
}
matrices() { # matrices FOLDER: those of the levels 4 to 8
    framework_matrix 4 4.9.165 4.14.105 4.19.42 > "$1/compatibility_matrix.4.xml"
    framework_matrix 5 4.14.186 4.19.191 5.4.61 > "$1/compatibility_matrix.5.xml"
    framework_matrix 6 4.19.191 5.4.86 5.10.43 > "$1/compatibility_matrix.6.xml"
    framework_matrix 7 5.4.147 5.10.101 5.15.41 > "$1/compatibility_matrix.7.xml"
    framework_matrix 8 5.10.157 5.15.78 6.1.25 > "$1/compatibility_matrix.8.xml"
}
generic gsi-arm 4.2 SMG42.260512 14 34 2026-05-01 armeabi-v7a,armeabi 4
ln -s /system/bin/init "$work/gsi-arm/init"
program "$work/gsi-arm/system/bin/init" 1 40
program "$work/gsi-arm/system/bin/linker" 1 40
interface "$work/gsi-arm" "$all" "$mapped"
matrices "$work/gsi-arm/system/etc/vintf"
framework_manifest $all > "$work/gsi-arm/system/etc/vintf/manifest.xml"
image gsi-arm 12M / 20

generic gsi-fixed 1.4 SMG14.190905 9 28 2019-09-01 arm64-v8a,armeabi-v7a,armeabi 6
program "$work/gsi-fixed/init" 2 183
program "$work/gsi-fixed/system/bin/linker" 1 40
program "$work/gsi-fixed/system/bin/linker64" 2 183
interface "$work/gsi-fixed" "" "28.0"
for w in lib lib64; do mkdir -p "$work/gsi-fixed/system/$w/vndk-28"; printf 'a library\n' > "$work/gsi-fixed/system/$w/vndk-28/libtide.so"; done
framework_matrix 3 4.4.107 4.9.84 4.14.42 > "$work/gsi-fixed/system/etc/vintf/compatibility_matrix.3.xml"
framework_manifest 28 > "$work/gsi-fixed/system/etc/vintf/manifest.xml"
image gsi-fixed 16M / 21

generic gsi-arm64 4.2 SMG42.260512 14 34 2026-05-01 arm64-v8a,armeabi-v7a,armeabi 8
ln -s /system/bin/init "$work/gsi-arm64/init"
program "$work/gsi-arm64/system/bin/init" 2 183
program "$work/gsi-arm64/system/bin/linker" 1 40
program "$work/gsi-arm64/system/bin/linker64" 2 183
interface "$work/gsi-arm64" "$all" "$mapped"
matrices "$work/gsi-arm64/system/etc/vintf"
framework_manifest $all > "$work/gsi-arm64/system/etc/vintf/manifest.xml"
image gsi-arm64 36M / 22

generic gsi-new 6.0 SMG60.260810 16 36 2026-08-05 arm64-v8a 6
program "$work/gsi-new/system/bin/init" 2 183
program "$work/gsi-new/system/bin/linker64" 2 183
interface "$work/gsi-new" 34 "34.0 202404"
framework_matrix 8 5.10.157 5.15.78 6.1.25 > "$work/gsi-new/system/etc/vintf/compatibility_matrix.8.xml"
framework_matrix 202404 5.15.94 6.1.68 6.6.30 > "$work/gsi-new/system/etc/vintf/compatibility_matrix.202404.xml"
framework_manifest 34 > "$work/gsi-new/system/etc/vintf/manifest.xml"
mkfs.erofs --quiet --all-root -T1767225600 -U 5a17a45b-0000-4000-8000-000000000023 "$work/gsi-new.erofs" "$work/gsi-new" > /dev/null
xz -9e -k -c "$work/gsi-new.erofs" > "$here/gsi-new.erofs.xz"
