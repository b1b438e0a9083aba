# Of each core: compiler and its flags | what it has of its own | memory of the board | emulator | instructions that a
# tick of its timer is, at 64 ns each: clocks of 25, 20 and 32 MHz; the RISC-V board counts nanoseconds.
ARM := arm-none-eabi-gcc -mthumb -specs=nano.specs
RISCV := riscv64-unknown-elf-gcc -mabi=ilp32 -specs=picolibc.specs -msmall-data-limit=0
cortex-m0 := $(ARM) -mcpu=cortex-m0|cortex-m|mps2|qemu-system-arm -M mps2-an385|0.625
cortex-m3 := $(ARM) -mcpu=cortex-m3|cortex-m|mps2|qemu-system-arm -M mps2-an385|0.625
cortex-m4 := $(ARM) -mcpu=cortex-m4|cortex-m|mps2|qemu-system-arm -M mps2-an386|0.625
cortex-m7 := $(ARM) -mcpu=cortex-m7+nofp|cortex-m|mps2|qemu-system-arm -M mps2-an500|0.625
cortex-m33 := $(ARM) -mcpu=cortex-m33+nofp|cortex-m|mps2-an505|qemu-system-arm -M mps2-an505|0.78125
cortex-m55 := $(ARM) -mcpu=cortex-m55 -mfloat-abi=hard|cortex-m|mps3-an547|qemu-system-arm -M mps3-an547|0.48828125
rv32imac := $(RISCV) -march=rv32imac|riscv|virt|qemu-system-riscv32 -M virt -bios none|0.015625
VIRT_VECTORS := qemu-system-riscv32 -M virt -cpu rv32,v=true,vext_spec=v1.0,vlen=128 -bios none
rv32imac-zve32x := $(RISCV) -march=rv32imac -DNSK_RISCV_VECTOR|riscv|virt|$(VIRT_VECTORS)|0.015625
CORES := cortex-m0 cortex-m3 cortex-m4 cortex-m7 cortex-m33 cortex-m55 rv32imac rv32imac-zve32x
PART = $(shell echo '$($(CORE))' | cut -d'|' -f$(1))
COMPILER = $(call PART,1)
OWN := $(call PART,2)
MEMORY := $(call PART,3)
EMULATOR = $(call PART,4)
# The serial line of each board, and where its registers stand.
LINE_mps2 := uart-cmsdk|0x40004000
LINE_mps2-an505 := uart-cmsdk|0x50200000
LINE_mps3-an547 := uart-cmsdk|0x59303000
LINE_virt := uart-16550|0x10000000
LINE_PART = $(shell echo '$(LINE_$(MEMORY))' | cut -d'|' -f$(1))
LINE := $(call LINE_PART,1)
LINE_ADDRESS := $(call LINE_PART,2)
