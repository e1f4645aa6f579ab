#!/usr/bin/env bash
# Makes the pictures of this folder from the demo data: each shows one command
# in a terminal window. Needs Go, Xvfb, xterm, ImageMagick's import, for the page Chromium, and for
# the phones on cables what .ci/usbguest brings.
set -euo pipefail
cd "$(dirname "$0")/../.."
work=$(mktemp -d)
lab=/tmp/jarlid-pictures
rm -rf "$lab" && mkdir -p "$lab"
CGO_ENABLED=0 go build -o "$work/jarlid" ./cmd/jarlid
export PATH="$work:$PATH" JARLID_HOME="$lab/home" DISPLAY=:97
Xvfb "$DISPLAY" -screen 0 1200x1600x24 >/dev/null 2>&1 &
xvfb=$!
phone=
trap 'kill $xvfb $phone 2>/dev/null; rm -rf "$work" "$lab"' EXIT
sleep 1
jarlid demo --only-files --at "$lab" >/dev/null
cd "$lab/files"

# shot NAME WHEN COMMAND: a window of 100 columns, with the command and all it shows. The picture is
# taken after WHEN seconds, or when the command has ended for "end". dark=1: on a dark ground.
shot() {
    local name=$1 when=$2 cmd=$3 ground=#fbfaf6 ink=#24292e
    local colours=(1:#b3261e 2:#2e6b34 3:#8a5a00 4:#1f5fa8 6:#00697a)
    if [ -n "${dark:-}" ]; then
        ground=#16191d ink=#d8dadf
        colours=(1:#ff8a80 2:#8fd694 3:#f0c060 4:#8ab8ff 6:#6fd3de)
    fi
    cat > "$work/run" <<EOF
echo \$WINDOWID > "$work/window"
printf '\\033[?25l'; clear
printf '\$ %s\n' '${shown:-$cmd}'
$cmd
touch "$work/ended"
sleep 60
EOF
    rm -f "$work/ended"
    local set=()
    for c in "${colours[@]}"; do set+=(-xrm "xterm*color${c%%:*}: ${c#*:}"); done
    xterm -geometry 100x76+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg "$ground" -fg "$ink" "${set[@]}" -bw 0 -uc -e bash "$work/run" &
    local term=$!
    if [ "$when" = end ]; then
        for _ in $(seq 900); do [ -e "$work/ended" ] && break; sleep 0.1; done
        sleep 0.5
    else
        sleep "$when"
    fi
    import -window "$(cat "$work/window")" "$work/shot.png"
    # What is empty below the last line is cut off.
    convert "$work/shot.png" -gravity southwest -background "$ground" -splice 0x1 -trim +repage -bordercolor "$ground" -border 14 "$OLDPWD/docs/screenshots/$name.png"
    [ "$when" = end ] || for _ in $(seq 900); do [ -e "$work/ended" ] && break; sleep 0.1; done
    kill $term 2>/dev/null || true
    wait $term 2>/dev/null || true
}

# page NAME FILE: the picture of a page.
page() {
    chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync \
        --user-data-dir="$work/browser" --hide-scrollbars --window-size=1280,${height:-800} --screenshot="$OLDPWD/docs/screenshots/$1.png" "file://$PWD/$2" >/dev/null 2>&1
}

# A tray: three phones, one sheet, a cable that is pulled, and the report.
trays=()
for n in 1 2 3; do
    jarlid standin run dunlin --as dunlin-$n --serial WL-DU-010$n --at "$lab/dunlin-$n" >"$lab/dunlin-$n.log" & trays+=($!)
done
sleep 2
shot sheet-draft end "jarlid sheet draft tideline-3.1-dunlin.img saltmarsh-4.2-dunlin.zip --on dunlin-1"
shot sheet-check end "jarlid sheet check evening.yaml --all"
jarlid standin fault dunlin-2 drop --after 25165824 >/dev/null
for n in 1 2 3; do
    ( for key in "finish welcome" "debugging on" allow; do
        until jarlid standin press dunlin-$n "$key" >/dev/null 2>&1; do sleep 0.3; done
      done ) &
done
dark=1 shot sheet-run 3.0 "jarlid sheet run evening.yaml --all --yes"
shot_resume() { script -qec "jarlid jobs resume --yes" /dev/null >/dev/null; }
shot_resume
jarlid jobs show 1 --page report.html >/dev/null
height=1000 page report report.html
kill "${trays[@]}" 2>/dev/null || true
wait "${trays[@]}" 2>/dev/null || true
rm -rf evening.yaml backup-dunlin-* "$lab/home/jobs"

jarlid standin run dunlin --at "$lab/dunlin" >"$lab/dunlin.log" & phone=$!
sleep 2
shot ident end "jarlid ident tideline-3.1-dunlin.img saltmarsh-4.2-dunlin.zip"
shot proof end "jarlid proof saltmarsh-4.2-dunlin.zip"
jarlid recovery install tideline-3.1-dunlin.img --yes >/dev/null
jarlid go recovery --yes >/dev/null
jarlid wipe userdata --yes >/dev/null
shot sideload end "jarlid sideload saltmarsh-4.2-dunlin.zip --then stay --yes"
jarlid go recovery --yes >/dev/null
jarlid go system --wait 1s --yes >/dev/null
( for key in "finish welcome" "debugging on" allow; do
    until jarlid standin press dunlin "$key" >/dev/null 2>&1; do sleep 0.2; done
  done ) &
shot arrive end "jarlid arrive"
shot explain end "jarlid explain stuck at 47 percent"
kill $phone 2>/dev/null || true
wait $phone 2>/dev/null || true

# Phones on cables, as a terminal in the guest with a real kernel shows them.
(cd "$OLDPWD" && .ci/usbguest && JARLID_USBVM=required JARLID_USBVM_PICTURES="$work" go test -count=1 ./internal/guest -run TestGuest/picture >/dev/null)
shown="jarlid bench --why" shot why end "cat $work/why"

# The other kinds of phone.
jarlid demo --only-files --for avocet --at "$lab" >/dev/null
jarlid standin run avocet --at "$lab/avocet" >"$lab/avocet.log" & phone=$!
sleep 2
shot card end "jarlid card"
shot flash-set end "jarlid flash wickerlight-9.1-avocet-firmware.zip --accept risky-partition=radio --yes"
jarlid lift wickerlight-9.1-avocet-firmware.zip vbmeta -o stock >/dev/null
shot vbmeta-check end "jarlid vbmeta check stock/vbmeta.img --images saltmarsh-4.2-avocet.zip"
jarlid recovery install tideline-3.1-avocet.img --yes >/dev/null
jarlid go recovery --yes >/dev/null
shot fit end "jarlid fit saltmarsh-gsi-4.2-arm64.img.gz --page fit.html"
page fit-page fit.html
kill $phone 2>/dev/null || true
wait $phone 2>/dev/null || true
jarlid standin run dunlin --at "$lab/locked" --locked >"$lab/locked.log" & phone=$!
sleep 2
( until jarlid standin press dunlin yes >/dev/null 2>&1; do sleep 0.3; done ) &
shot unlock end "jarlid unlock --yes"
jarlid recovery try tideline-3.1-dunlin.img --yes >/dev/null
jarlid wipe userdata --yes >/dev/null # the unlock erased the data, and nothing can be mounted
jarlid put saltmarsh-4.2-dunlin.zip --to storage --yes >/dev/null
shot backup end "jarlid backup take -o kept"
kill $phone 2>/dev/null || true
wait $phone 2>/dev/null || true
jarlid demo --only-files --for godwit --at "$lab" >/dev/null
jarlid standin run godwit --at "$lab/godwit" >"$lab/godwit.log" & phone=$!
sleep 2
jarlid flash tideline-dtbo-godwit.img --into @both --yes >/dev/null
shot recovery-install end "jarlid recovery install tideline-3.1-godwit.img --yes"
kill $phone 2>/dev/null || true
wait $phone 2>/dev/null || true

# A phone with a loader: its recovery, and what comes next.
jarlid demo --only-files --for knot --at "$lab" >/dev/null
jarlid standin run knot --at "$lab/knot" >"$lab/knot.log" & phone=$!
sleep 2
shown="jarlid recovery install tideline-3.1-knot.img --yes" shot loader end 'jarlid recovery install tideline-3.1-knot.img --yes; echo; echo "$ jarlid go system"; jarlid go system; echo; echo "$ jarlid standin press knot charge"; jarlid standin press knot charge'
