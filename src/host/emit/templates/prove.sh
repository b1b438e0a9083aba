#!/bin/sh
# Proves that no frame can make the runtime leave its memory or its numbers leave their range: Eva,
# the value analysis of Frama-C (https://frama-c.com, Debian: frama-c-base), runs each network on
# unknown pixels. Writes proof/NETWORK.txt. Takes minutes: five or so for a million multiplications, and
# hours where element-wise layers have tens of thousands of elements.
# Usage: proof/prove.sh [NETWORK...]
# Status: 0 without an alarm, 1 with some (behind what is sure to fail it looks no further), 2 where
# nothing could be shown.
set -eu
cd "$(dirname "$0")/.."
if ! command -v frama-c >/dev/null; then
    echo "frama-c: not here; install frama-c-base" >&2
    exit 2
fi

# The model; where its weights stand in a core's own order, the same in the usual one.
model_of() {
    if [ -f "proof/$1_model.c" ]; then
        echo "proof/$1_model.c"
    else
        echo "$1_model.c"
    fi
}

# 32-bit int and pointers, little-endian. Every loop is run through to its end.
prove() {
    frama-c -c11 -machdep x86_32 -cpp-extra-args="-I. -Iproof -DNSK_PORTABLE -U__GNUC__ '-D_Alignas(x)='" \
        -kernel-warn-key annot:missing-spec=inactive "proof/$1.c" "$(model_of "$1")" nsk_*.c \
        -eva -eva-no-results -eva-min-loop-unroll 1000000000 -eva-use-spec nsk_crc32 \
        -eva-split-return-function nsk_open:0 -eva-slevel-function nsk_open:50,main:50
}

# Whatever it warns of, with the two lines that say of what.
alarms() {
    grep -A 2 'Warning:' "$1" || true
}

tell() {
    network=$1 log=$2 count=$3 seconds=$4
    cat <<TEXT
$network: $count alarms in $seconds s

Shown, where that is 0: whatever the bytes of a frame are, nsk_open, nsk_prepare, nsk_run, nsk_scores
and nsk_best come to their end on this model; they read and write nothing outside of the model, the
frame, the workspace and their own variables; they read nothing that was never written; no number of
theirs overflows, is divided by zero, or is shifted too far.

Assumed:
- The model's bytes are those of $(model_of "$network"), at a multiple of four; nsk_open, which ran first,
  took them. Their checksum's function is taken by its contract in nsk_crc.h.
- The runtime is the plain C of this folder (-DNSK_PORTABLE). A core's own kernels give the same bits;
  that is tested, not proven.
- int and pointers have 32 bits, little-endian; right shifts of negative numbers are arithmetic.
- memcpy and memset do what C says, and the compiler translates as C says.
- Frama-C $(frama-c -version) is right.

TEXT
    alarms "$log"
}

[ $# -gt 0 ] || set -- @NAMES@
status=0
for network in "$@"; do
    log=proof/$network.log
    begin=$(date +%s)
    if ! prove "$network" >"$log" 2>&1 || ! grep -q 'Warning:\|Frama_C_show_each_best:' "$log"; then
        echo "$network: nothing was shown; the reason stands in proof/$network.log" >&2
        exit 2
    fi
    count=$(grep -c 'Warning:' "$log" || true)
    tell "$network" "$log" "$count" $(($(date +%s) - begin)) >"proof/$network.txt.new"
    mv "proof/$network.txt.new" "proof/$network.txt"
    rm "$log"
    head -n 1 "proof/$network.txt"
    [ "$count" -eq 0 ] || status=1
done
exit $status
