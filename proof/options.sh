# shellcheck shell=sh disable=SC2034
# How Frama-C reads the device half: the plain C, on 32-bit int and pointers, little-endian. Sourced.
MACHINE="-c11 -machdep x86_32 -kernel-warn-key annot:missing-spec=inactive"
PLAIN="-DNSK_PORTABLE -U__GNUC__ '-D_Alignas(x)='"
EVA="-eva -eva-no-results"
# The checksum's function by its contract in crc.h; proof/crc.c shows that it reads what that allows.
BY_CONTRACT="-eva-use-spec nsk_crc32"
# Each loop is run through to its end, but where the code says otherwise.
EVERY_LOOP="-eva-min-loop-unroll 1000000000"
