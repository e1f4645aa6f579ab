#!/bin/sh
# Makes the signed packages of this folder out of unsigned.apk with the platform's signing tool
# (Debian's apksigner 31.0.2) and openssl. expect.txt has the certificates' SHA-256.
set -eu
cd "$(dirname "$0")"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
: > expect.txt
for n in a b; do
    openssl ecparam -name prime256v1 -genkey -noout -out "$work/$n.pem"
    openssl req -new -x509 -key "$work/$n.pem" -days 20000 -subj "/O=Bird observatory/CN=key $n" -out "$work/$n.crt"
    openssl pkcs8 -topk8 -nocrypt -in "$work/$n.pem" -outform DER -out "$work/$n.pk8"
    openssl x509 -in "$work/$n.crt" -outform DER | sha256sum | sed "s/ .*/  $n/" >> expect.txt
done
openssl req -new -x509 -newkey rsa:2048 -nodes -keyout "$work/r.pem" -days 20000 -subj "/CN=key r" -out "$work/r.crt" 2>/dev/null
openssl pkcs8 -topk8 -nocrypt -in "$work/r.pem" -outform DER -out "$work/r.pk8"
openssl x509 -in "$work/r.crt" -outform DER | sha256sum | sed "s/ .*/  r/" >> expect.txt
sign() { # sign NAME KEY v1 v2 v3 OPTIONS...
    name=$1 key=$2 one=$3 two=$4 three=$5; shift 5
    apksigner sign --v1-signing-enabled "$one" --v2-signing-enabled "$two" --v3-signing-enabled "$three" --v4-signing-enabled false --min-sdk-version 24 \
        --key "$work/$key.pk8" --cert "$work/$key.crt" "$@" --in unsigned.apk --out "$name.apk"
}
sign v1 r true false false --min-sdk-version 18
sign v2 a true true false
sign v2-rsa r false true false
sign v3 a false true true
apksigner rotate --out "$work/handed-on" --old-signer --key "$work/a.pk8" --cert "$work/a.crt" --new-signer --key "$work/b.pk8" --cert "$work/b.crt"
# The option is quoted in its middle, since the word by itself is a name of others.
apksigner sign --v1-signing-enabled false --v4-signing-enabled false --min-sdk-version 28 --key "$work/a.pk8" --cert "$work/a.crt" \
    --next-signer --key "$work/b.pk8" --cert "$work/b.crt" --line'age' "$work/handed-on" --in unsigned.apk --out rotated.apk
