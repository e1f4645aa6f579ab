#!/bin/bash
# Makes the small system images of this folder, each with the same files, by mkfs.ext4
# (e2fsprogs 1.47) and mkfs.erofs (1.5) with different features, packed with xz.
set -eu
cd "$(dirname "$0")"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export E2FSPROGS_FAKE_TIME=1767225600 TZ=UTC
d=$work/root
mkdir -p "$d"/system/{bin,apex,etc/selinux/mapping,etc/vintf/manifest,etc/init/config,system_ext/apex,lib64/vndk-28} "$d"/product
cat > "$d/system/build.prop" <<'P'
# a comment
ro.build.display.id=Saltmarsh GSI 4.2
ro.build.version.release=14
ro.build.version.sdk=34
ro.build.version.security_patch=2026-05-01
ro.product.cpu.abilist=arm64-v8a,armeabi-v7a,armeabi
P
ln -s /system/bin/init "$d/init"
{ printf '\177ELF\002\001\001\000\000\000\000\000\000\000\000\000\003\000\267\000\001\000\000\000'; head -c 8000 /dev/zero; } > "$d/system/bin/init"
cp "$d/system/bin/init" "$d/system/bin/linker64"
for v in 29 30; do echo v$v > "$d/system/apex/com.android.vndk.v$v.apex"; done
mkdir "$d/system/system_ext/apex/com.android.vndk.current"
echo no > "$d/system/apex/com.android.vndkx.v99.apex"
for v in 28.0 29.0 202404; do echo "; $v" > "$d/system/etc/selinux/mapping/$v.cil"; done
echo no > "$d/system/etc/selinux/mapping/28.0.compat.cil"
ln -s nowhere "$d/system/bin/linker"
printf '/product\n/odm\n' > "$d/system/etc/init/config/skip_mount.cfg"
for l in 5 7; do
    printf '<compatibility-matrix version="1.0" type="framework" level="%s"><hal format="hidl" optional="false"><name>android.hardware.audio</name><version>6.0</version><interface><name>IDevicesFactory</name><instance>default</instance></interface></hal></compatibility-matrix>\n' $l \
        > "$d/system/etc/vintf/compatibility_matrix.$l.xml"
done
printf '<manifest version="2.0" type="framework"><vendor-ndk><version>30</version></vendor-ndk></manifest>\n' > "$d/system/etc/vintf/manifest.xml"
printf '<manifest version="2.0" type="framework"><hal format="aidl"><name>android.system.keystore2</name><fqname>IKeystoreService/default</fqname></hal></manifest>\n' > "$d/system/etc/vintf/manifest/keystore2.xml"
find "$d" -exec touch -h -d @1767225600 {} +

ext4() { # ext4 NAME FEATURES OPTIONS...
    local name=$1 features=$2; shift 2
    mkfs.ext4 -q -F -m 0 -O "$features" -U 5a17a45b-0000-4000-8000-000000000099 -E hash_seed=5a17a45b-0000-4000-8000-000000000000,lazy_itable_init=0,root_owner=0:0 "$@" -d "$d" "$work/$name.ext4" 3M
    xz -9e -c "$work/$name.ext4" > "$name.ext4.xz"
}
ext4 usual ^has_journal,^resize_inode,metadata_csum,64bit -b 4096
ext4 maps ^has_journal,^extents,^64bit,^metadata_csum -b 1024
ext4 inline ^has_journal,inline_data,metadata_csum -b 1024 -I 512
erofs() { # erofs NAME OPTIONS...
    local name=$1; shift
    mkfs.erofs --quiet --all-root -T1767225600 -U 5a17a45b-0000-4000-8000-000000000099 "$@" "$work/$name.erofs" "$d" >/dev/null
    xz -9e -c "$work/$name.erofs" > "$name.erofs.xz"
}
erofs plain
erofs lz4 -zlz4
erofs big -zlz4hc,9 -C65536
