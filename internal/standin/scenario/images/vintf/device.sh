# The made-up maker's manifests: what the vendor partition of each level offers.
hidl() { # hidl NAME VERSION INTERFACE INSTANCE...
    local name=$1 version=$2 interface=$3; shift 3
    printf '    <hal format="hidl">\n        <name>%s</name>\n        <transport>hwbinder</transport>\n' "$name"
    for i in "$@"; do printf '        <fqname>@%s::%s/%s</fqname>\n' "$version" "$interface" "$i"; done
    printf '    </hal>\n'
}
aidl() { # aidl NAME VERSION INTERFACE INSTANCE...
    local name=$1 version=$2 interface=$3; shift 3
    printf '    <hal format="aidl">\n        <name>%s</name>\n        <version>%s</version>\n' "$name" "$version"
    for i in "$@"; do printf '        <fqname>%s/%s</fqname>\n' "$interface" "$i"; done
    printf '    </hal>\n'
}
want() { # want FORMAT NAME VERSION INTERFACE INSTANCE [OPTIONAL]
    local kind=instance
    case $5 in *'['*) kind=regex-instance ;; esac
    printf '    <hal format="%s" optional="%s">\n        <name>%s</name>\n' "$1" "${6:-false}" "$2"
    for v in $(printf '%s' "$3" | tr , ' '); do printf '        <version>%s</version>\n' "$v"; done
    printf '        <interface>\n            <name>%s</name>\n            <%s>%s</%s>\n        </interface>\n    </hal>\n' "$4" "$kind" "$5" "$kind"
}
kernel() { # kernel VERSION
    printf '    <kernel version="%s">\n' "$1"
    for k in CONFIG_ANDROID_BINDER_IPC CONFIG_BPF_SYSCALL CONFIG_SECCOMP_FILTER; do
        printf '        <config>\n            <key>%s</key>\n            <value type="tristate">y</value>\n        </config>\n' $k
    done
    printf '        <config>\n            <key>CONFIG_DEVMEM</key>\n            <value type="tristate">n</value>\n        </config>\n    </kernel>\n'
}

device_manifest() { # device_manifest VNDK: of the vendor partition
    case $1 in
    28) level=3; set -- 28 4.0 2.2 2.0 4.0 2.0 1.2 1.2 ;;
    29) level=4; set -- 29 5.0 2.3 3.0 4.0 2.0 1.4 1.3 ;;
    30) level=5; set -- 30 6.0 2.4 4.0 4.1 2.1 1.5 1.4 ;;
    33) level=7; set -- 33 7.1 - - - - 1.6 1.6 ;;
    esac
    printf '<manifest version="2.0" type="device" target-level="%s">\n' $level
    hidl android.hardware.audio "$2" IDevicesFactory default
    hidl android.hardware.camera.provider 2.4 ICameraProvider legacy/0
    hidl android.hardware.radio "$7" IRadio slot1 slot2
    hidl android.hardware.wifi "$8" IWifi default
    if [ "$1" = 33 ]; then
        aidl android.hardware.graphics.composer3 1 IComposer default
        aidl android.hardware.graphics.allocator 1 IAllocator default
        aidl android.hardware.security.keymint 2 IKeyMintDevice default
        aidl android.hardware.health 1 IHealth default
    else
        hidl android.hardware.graphics.composer "$3" IComposer default
        hidl android.hardware.graphics.allocator "$4" IAllocator default
        hidl android.hardware.keymaster "$5" IKeymasterDevice default
        hidl android.hardware.health "$6" IHealth default
    fi
    printf '    <sepolicy>\n        <version>%s.0</version>\n    </sepolicy>\n</manifest>\n' "$1"
}

device_matrix() { # device_matrix VNDK: what the vendor partition asks of a system
    printf '<compatibility-matrix version="1.0" type="device">\n'
    want hidl android.frameworks.sensorservice 1.0 ISensorManager default
    want hidl android.hidl.allocator 1.0 IAllocator ashmem
    printf '    <vendor-ndk>\n        <version>%s</version>\n    </vendor-ndk>\n    <system-sdk>\n        <version>%s</version>\n    </system-sdk>\n</compatibility-matrix>\n' "$1" "$1"
}

framework_matrix() { # framework_matrix LEVEL KERNEL...: what a system asks of vendor partitions of that level
    local level=$1; shift
    printf '<compatibility-matrix version="1.0" type="framework" level="%s">\n' "$level"
    case $level in
    3) want hidl android.hardware.audio 4.0 IDevicesFactory default; want hidl android.hardware.keymaster 3.0,4.0 IKeymasterDevice default
        want hidl android.hardware.graphics.composer 2.1-2 IComposer default; want hidl android.hardware.health 2.0 IHealth default ;;
    4) want hidl android.hardware.audio 5.0 IDevicesFactory default; want hidl android.hardware.keymaster 3.0,4.0 IKeymasterDevice default
        want hidl android.hardware.graphics.composer 2.1-3 IComposer default; want hidl android.hardware.health 2.0 IHealth default ;;
    5 | 6) want hidl android.hardware.audio 6.0 IDevicesFactory default; want hidl android.hardware.keymaster 4.0-1 IKeymasterDevice default
        want hidl android.hardware.graphics.composer 2.1-4 IComposer default; want hidl android.hardware.health 2.1 IHealth default ;;
    *) want hidl android.hardware.audio 6.0,7.0-1 IDevicesFactory default; want aidl android.hardware.security.keymint 1-2 IKeyMintDevice default
        want aidl android.hardware.graphics.composer3 1 IComposer default; want aidl android.hardware.health 1 IHealth default ;;
    esac
    want hidl android.hardware.camera.provider 2.4-7 ICameraProvider '[^/]+/[0-9]+'
    want hidl android.hardware.wifi 1.0-6 IWifi default
    want hidl android.hardware.radio 1.0-6 IRadio slot1 true
    for k in "$@"; do kernel "$k"; done
    printf '    <sepolicy>\n        <kernel-sepolicy-version>30</kernel-sepolicy-version>\n        <sepolicy-version>28.0</sepolicy-version>\n    </sepolicy>\n</compatibility-matrix>\n'
}

framework_manifest() { # framework_manifest VNDK...: what a system offers
    printf '<manifest version="2.0" type="framework">\n'
    hidl android.frameworks.sensorservice 1.0 ISensorManager default
    hidl android.hidl.allocator 1.0 IAllocator ashmem
    for v in "$@"; do printf '    <vendor-ndk>\n        <version>%s</version>\n    </vendor-ndk>\n' "$v"; done
    printf '    <system-sdk>\n'
    for v in 28 29 30 31 32 33 34; do printf '        <version>%s</version>\n' $v; done
    printf '    </system-sdk>\n</manifest>\n'
}
