#!/usr/bin/env bash
# One round of a set that grows: a batch with a glaze that the network has not seen is watched; its
# pictures are kept under what somebody who sees them calls them (here: the scene's truth); the
# network is trained anew with them, and plays the glaze scene, which has been kept out of all that.
#     demo/round.sh FOLDER [EPOCHS [PICTURES A CLASS]]
set -euo pipefail
cd "$(dirname "$0")/.."
folder=$1
epochs=${2:-36}
each=${3:-1000}
mkdir -p "$folder"
folder=$(cd "$folder" && pwd)

echo "A sitting of the new glaze, watched"
rm -rf "$folder/kept" "$folder/training"
build/kiln-stream --seed 21 glaze "$folder/sitting"
build/netsuke watch demo/kiln.ini --camera "$folder/sitting.csv" --into "$folder/kept" >"$folder/address" &
watch=$!
trap 'kill -INT $watch 2>/dev/null || true' EXIT
for _ in $(seq 200); do
    [ ! -s "$folder/address" ] || break
    sleep 0.05
done
page=$(head -1 "$folder/address")
asks() { curl -s -o /dev/null -w '%{http_code}' -X POST "${page}do?what=$1"; }
asks pause >"$folder/said"
curl -s -N "${page}events" >/dev/null &
looks=$!

# Picture by picture; from the batch's first to its last, what has a name is kept.
number=0
while IFS=, read -r _ truth; do
    asks step >"$folder/said"
    if [ $number -ge 130 ] && [ $number -lt 270 ]; then
        label=$(grep -n -x -- "$truth" demo/labels.txt | cut -d: -f1 || true)
        until [ -z "$label" ] || [ "$(asks "keep&number=$number&label=$((label - 1))")" = 204 ]; do
            sleep 0.005 # it has not been seen yet
        done
    fi
    number=$((number + 1))
    [ $number -lt 270 ] || break
done < <(tail -n +2 "$folder/sitting.csv")
kill -INT $watch
wait $watch || true
wait $looks || true
echo "kept: $(find "$folder/kept" -name '*.png' | wc -l) pictures, of $(find "$folder/kept" -mindepth 1 -maxdepth 1 -type d -printf '%f\n' | sort | paste -s -d, | sed 's/,/, /g')"

echo "Training anew, each of them counted eight times"
build/kiln-generate --seed 1 --per-class "$each" "$folder/training"
build/kiln-train --epochs "$epochs" --labels demo/labels.txt --more "$folder/kept" --times 8 \
    --check demo/images/held-out "$folder/training" "$folder/kiln.onnx" 2>"$folder/log" || {
    cat "$folder/log" >&2
    exit 2
}
tail -1 "$folder/log"

sed "s#^file = kiln.onnx#file = $folder/kiln.onnx#; s#= images/#= $PWD/demo/images/#; s#= labels#= $PWD/demo/labels#
     s#= \.\./boards#= $PWD/boards#; s#scenes/#$PWD/demo/scenes/#g" demo/kiln.ini >"$folder/kiln.ini"
for brief in demo/kiln.ini "$folder/kiln.ini"; do
    echo
    echo "$brief: held-out pictures, and the glaze scene"
    build/netsuke compare "$brief" 2>/dev/null | grep -E "^(float|integer)  " || true
    { build/netsuke rehearse "$brief" --scene demo/scenes/glaze.csv 2>/dev/null || test $? = 1; } | grep -E '^(right|events|missed|false) '
done
