#!/usr/bin/env bash
# One round of a set that grows: batches with a glaze that the network has not seen are watched; their
# pictures are kept under what somebody who sees them calls them (here: the scene's truth); the
# network is trained anew with them, and plays scenes of that glaze that have been kept out of all that.
#     demo/round.sh FOLDER [EPOCHS [PICTURES A CLASS [TIMES]]]
set -euo pipefail
cd "$(dirname "$0")/.."
mkdir -p "$1"
folder=$(cd "$1" && pwd)
epochs=${2:-36}
each=${3:-1000}
times=${4:-8}
rm -rf "$folder/kept" "$folder/training"

# Picture by picture, at the page, as whoever sits before it: from the batch's first to its last, what has a name is kept.
sitting() { # SCENE
    rm -f "$folder/address"
    build/netsuke watch demo/kiln.ini -m "$folder/shipped.nsk" --camera "$1.csv" --into "$folder/kept" >"$folder/address" &
    watch=$!
    trap 'kill -INT $watch 2>/dev/null || true' EXIT
    until [ -s "$folder/address" ]; do
        kill -0 $watch
        sleep 0.05
    done
    page=$(head -1 "$folder/address")
    asks() { curl -s -o /dev/null -w '%{http_code}' -X POST "${page}do?what=$1"; }
    asks pause >/dev/null
    curl -s -N "${page}events" >/dev/null &
    looks=$!
    number=0
    while [ $number -lt 270 ] && IFS=, read -r _ truth; do
        asks step >/dev/null
        if [ $number -ge 130 ]; then
            label=$(grep -n -x -- "$truth" demo/labels.txt | cut -d: -f1 || true)
            until [ -z "$label" ] || [ "$(asks "keep&number=$number&label=$((label - 1))")" = 204 ]; do
                kill -0 $watch
                sleep 0.005 # it has not been seen yet
            done
        fi
        number=$((number + 1))
    done < <(tail -n +2 "$1.csv")
    kill -INT $watch
    wait $watch || true
    wait $looks || true
}

build/netsuke quantise demo/kiln.ini -o "$folder/shipped.nsk" >/dev/null
echo "Three sittings of the new glaze, watched"
for seed in 21 31 32; do
    build/kiln-stream --seed $seed glaze "$folder/sitting-$seed"
    sitting "$folder/sitting-$seed"
done
echo "kept: $(find "$folder/kept" -name '*.png' -not -path '*/.*' | wc -l) pictures, of $(cd "$folder/kept" && find . -mindepth 1 -maxdepth 1 -type d -printf '%f\n' | sort | paste -s -d, | sed 's/,/, /g')"

echo "Training anew, each of them counted $times times"
build/kiln-generate --seed 1 --per-class "$each" "$folder/training"
build/kiln-train --epochs "$epochs" --labels demo/labels.txt --more "$folder/kept" --times "$times" \
    --check demo/images/held-out "$folder/training" "$folder/kiln.onnx" 2>"$folder/log" || {
    cat "$folder/log" >&2
    exit 2
}
tail -1 "$folder/log"

# Held-out pictures, and scenes of the glaze: the demo's, and four more.
sed "s#^file = kiln.onnx#file = $folder/kiln.onnx#; s#= images/#= $PWD/demo/images/#; s#= labels#= $PWD/demo/labels#
     s#= \.\./boards#= $PWD/boards#; s#scenes/#$PWD/demo/scenes/#g" demo/kiln.ini >"$folder/kiln.ini"
for seed in 22 23 24 25; do
    build/kiln-stream --seed $seed glaze "$folder/scene-$seed"
done
build/netsuke quantise "$folder/kiln.ini" -o "$folder/new.nsk" >/dev/null
for which in shipped new; do
    brief=demo/kiln.ini
    [ $which = shipped ] || brief=$folder/kiln.ini
    echo
    echo "$brief"
    build/netsuke compare "$brief" -m "$folder/$which.nsk" 2>/dev/null | grep -E '^(float|integer)  ' || true
    for scene in demo/scenes/glaze "$folder/scene-22" "$folder/scene-23" "$folder/scene-24" "$folder/scene-25"; do
        { build/netsuke rehearse "$brief" -m "$folder/$which.nsk" --scene "$scene.csv" 2>/dev/null || test $? = 1; } |
            awk -v scene="$(basename "$scene")" '
                /^right / { right = $2; sub(/.* of the /, ""); known = $1 }
                /^events / { events = $2 } /^missed / { missed = $2 } /^false / { idle = $2 }
                END { print scene, "right", right, "of", known, "missed", missed, "of", events, "false", idle }'
    done | tee "$folder/scenes"
    awk '$1 != "glaze" { right += $3; known += $5; missed += $7; events += $9; idle += $11 }
         END { print "the four", "right", right, "of", known, "missed", missed, "of", events, "false", idle }' "$folder/scenes"
done
