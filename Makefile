# For people: `make demo` shows the whole job, `make check` runs the tests. CMake does the building.
#: make                    build/netsuke
#: make demo               the whole job on the kiln line, from nothing; installs what is missing
#: make check              all tests; installs what is missing
#: make check-fast         those that take little time: CONTRIBUTING.md says what is left out
#: make bench              images a second here, instructions a multiply-accumulate on emulated cores
#: make flips              what becomes of flipped bits: the table in docs/porting.md, FLIPS=120000 of them
#: make proof              what Frama-C shows of the device half for all inputs: docs/proof.md; hours
#: make emulate            the hand-over of the kiln line's networks on every emulated core
#: make install            into PREFIX (/usr/local), below DESTDIR where that is given
#: make uninstall          takes away what the last install put there
#: make package            a Debian package, in build/package
#: make demo-train         trains the demo's network anew: five minutes (others: -gated, -third, -transformer...)
#: make demo-round         a new glaze is watched, kept, trained on, and known: nine minutes
#: make costs              counts every kernel on each emulated core, and writes the cost tables
#: make study              how far estimates are from counts on whole networks
#: make onnx-table         docs/onnx-support.md, from the standard's own cases
#: make sanitise fuzz lint parts of make check; FUZZ_SECONDS=60 for each target
#: make fuzz-coverage      what the device half's fuzz target reaches; a part of make check
#: make fuzz-night         all targets, half an hour each
#: make coverage           which lines the suites run, folder by folder: ten minutes
#: make docs               the reference of include/netsuke as HTML, in build/reference
#: make screenshots        the pictures of the README
#: make clean
BUILD := build
JOBS := $(shell nproc)
NETSUKE := $(BUILD)/netsuke
IMAGES := demo/images
CHECKED := -DCMAKE_C_COMPILER=clang "-DCMAKE_C_FLAGS_RELWITHDEBINFO=-O2 -gline-tables-only" \
  -DNSK_SANITISE=ON -DNSK_TESTS=ON -DNSK_FUZZ=ON -DNSK_REPLAYS=$(CURDIR)/$(BUILD)/bare-metal

# Suites run beside each other: each computes in one thread, but for those that are about threads.
ALONE := OMP_WAIT_POLICY=passive OMP_NUM_THREADS=1

TODAY := transformer mixer large

.PHONY: all docs coverage flips proof demo demo-data demo-train demo-train-gated demo-train-third demo-train-faults demo-train-variants demo-round $(TODAY:%=demo-train-%) study check onnx-table unit sanitise fuzz fuzz-night fuzz-coverage lint check-fast bench costs emulate install uninstall package help screenshots clean

all: $(BUILD)/Makefile
	@test -e $(NETSUKE) || echo "Building: a minute or so"
	@cmake --build $(BUILD) -j $(JOBS) -- --no-print-directory -s

$(BUILD)/Makefile: CMakeLists.txt
	@scripts/dependencies demo
	@cmake -S . -B $(BUILD) >$(BUILD).log 2>&1 || { cat $(BUILD).log; rm -f $(BUILD)/Makefile $(BUILD).log; exit 1; }
	@rm -f $(BUILD).log

# The whole job on the kiln line, from nothing.
demo: all demo-data
	@$(NETSUKE) assay demo/kiln.ini -o demo/out

# The pictures and scenes that the briefs of demo/ name. The seeds are the sets' own.
demo-data: $(IMAGES)/.complete

SCENES := belt plain stop dark glaze hand burst
$(IMAGES)/.complete: demo/scene.c demo/generate.c demo/stream.c | all
	@echo "Drawing the demo's pictures and scenes: half a minute"
	@rm -rf $(IMAGES) demo/scenes
	@$(BUILD)/kiln-generate --seed 2 --per-class 60 $(IMAGES)/calibration
	@$(BUILD)/kiln-generate --seed 3 --per-class 200 $(IMAGES)/held-out
	@$(BUILD)/kiln-generate --seed 2 --size 64 --per-class 40 $(IMAGES)/calibration-64
	@$(BUILD)/kiln-generate --seed 3 --size 64 --per-class 150 $(IMAGES)/held-out-64
	@$(BUILD)/kiln-generate --several --seed 2 --per-class 20 $(IMAGES)/calibration-faults
	@$(BUILD)/kiln-generate --several --seed 3 --per-class 60 $(IMAGES)/held-out-faults
	@for scene in $(SCENES); do $(BUILD)/kiln-stream $$scene demo/scenes/$$scene || exit 1; done
	@touch $@

# Trains demo/kiln.onnx anew: about five minutes on two cores.
demo-train: all demo-data
	@$(BUILD)/kiln-generate --seed 1 --per-class 1000 demo/training
	@$(BUILD)/kiln-train --labels demo/labels.txt --check $(IMAGES)/held-out demo/training demo/kiln.onnx

# The same for demo/kiln-gated.onnx: about ten minutes.
demo-train-gated: all demo-data
	@$(BUILD)/kiln-generate --seed 1 --per-class 1000 demo/training
	@$(BUILD)/kiln-train --design gated --epochs 30 --labels demo/labels.txt --check $(IMAGES)/held-out \
	  demo/training demo/kiln-gated.onnx

# The same for demo/kiln-third.onnx: two minutes.
demo-train-third: all demo-data
	@$(BUILD)/kiln-generate --seed 1 --per-class 1000 demo/training
	@$(BUILD)/kiln-train --width 33 --labels demo/labels.txt --check $(IMAGES)/held-out \
	  demo/training demo/kiln-third.onnx

# The same for demo/kiln-transformer.onnx, -mixer and -large: five to ten minutes each.
EPOCHS_transformer := 45
EPOCHS_mixer := 45
EPOCHS_large := 36
$(TODAY:%=demo-train-%): demo-train-%: all demo-data
	@$(BUILD)/kiln-generate --seed 1 --per-class 1000 demo/training
	@$(BUILD)/kiln-train --design $* --epochs $(EPOCHS_$*) --labels demo/labels.txt --check $(IMAGES)/held-out \
	  demo/training demo/kiln-$*.onnx

# The same for demo/kiln-faults.onnx, a label for each fault that a tile may have: five minutes.
demo-train-faults: all demo-data
	@$(BUILD)/kiln-generate --several --seed 1 --per-class 600 demo/training-faults
	@$(BUILD)/kiln-train --several --labels demo/faults.txt --check $(IMAGES)/held-out-faults \
	  demo/training-faults demo/kiln-faults.onnx

# The eight of demo/variants.ini: about twenty minutes.
demo-train-variants: all demo-data
	@$(BUILD)/kiln-generate --seed 1 --size 64 --per-class 1000 demo/training-64
	@for size in 32 40 48 64; do for width in 100 50; do \
	  name=kiln-$$size; [ $$width = 100 ] || name=$$name-half; \
	  $(BUILD)/kiln-train --size $$size --width $$width --epochs 24 --labels demo/labels.txt \
	    --check $(IMAGES)/held-out-64 demo/training-64 demo/variants/$$name.onnx || exit 1; done; done

# A round of a set that grows, from `watch` to a network that knows a new glaze: about nine minutes.
demo-round: all demo-data
	@demo/round.sh demo/round

# What runs under sanitizers as well, and is not about kernels, runs there alone.
check:
	@$(MAKE) --no-print-directory unit SUITES="-LE again"
	@$(MAKE) --no-print-directory sanitise
	@$(MAKE) --no-print-directory fuzz FUZZ_SECONDS=2
	@$(MAKE) --no-print-directory fuzz-coverage
	@$(MAKE) --no-print-directory lint

# What proves most in least time: no emulators, no sanitizers, no fuzzing, no documents.
check-fast: demo-data
	@scripts/dependencies check
	@cmake -S . -B $(BUILD) -DNSK_TESTS=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS) -- --no-print-directory -s
	@cd $(BUILD) && $(ALONE) ctest -j $(JOBS) -L fast --output-on-failure

unit: demo-data
	@scripts/dependencies check
	@cmake -S . -B $(BUILD) -DNSK_TESTS=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS) -- --no-print-directory -s
	@cd $(BUILD) && $(ALONE) ctest -j $(JOBS) $(SUITES) --output-on-failure

# The suites, and the command, under AddressSanitizer and UndefinedBehaviorSanitizer, built with Clang.
sanitise: demo-data
	@scripts/dependencies check
	@cmake -S . -B $(BUILD) -DNSK_TESTS=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS) --target replay -- --no-print-directory -s
	@cmake -S . -B $(BUILD)-sanitise $(CHECKED) >/dev/null
	@cmake --build $(BUILD)-sanitise -j $(JOBS) --target nsk-tests -- --no-print-directory -s
	@cd $(BUILD)-sanitise && $(ALONE) ctest -j $(JOBS) --output-on-failure

# Each fuzz target for FUZZ_SECONDS; `make check` gives each two.
FUZZ_SECONDS := 60
fuzz: demo-data
	@scripts/dependencies check
	@cmake -S . -B $(BUILD)-sanitise $(CHECKED) >/dev/null
	@cmake --build $(BUILD)-sanitise -j $(JOBS) --target nsk-fuzz-targets -- --no-print-directory -s
	@scripts/fuzz $(BUILD)-sanitise $(FUZZ_SECONDS)

# For hours: half an hour a target. What was found worth keeping stays in $(BUILD)-sanitise/corpus.
FUZZ_NIGHT := 1800
fuzz-night:
	@$(MAKE) --no-print-directory fuzz FUZZ_SECONDS=$(FUZZ_NIGHT)

docs:
	@scripts/dependencies docs
	@mkdir -p $(BUILD)/reference
	@DOCS=$(BUILD)/reference doxygen docs/Doxyfile
	@echo "$(BUILD)/reference/html/index.html"

fuzz-coverage:
	@scripts/dependencies check
	@cmake -S . -B $(BUILD)-sanitise $(CHECKED) >/dev/null
	@cmake --build $(BUILD)-sanitise -j $(JOBS) --target fuzz-device fuzz-link -- --no-print-directory -s
	@scripts/fuzz-coverage $(BUILD)-sanitise

# Which lines the suites run: CONTRIBUTING.md has the figure.
coverage: demo-data
	@scripts/dependencies coverage
	@cmake -S . -B $(BUILD) -DNSK_TESTS=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS) --target replay -- --no-print-directory -s
	@scripts/coverage $(BUILD)-gcov $(CURDIR)/$(BUILD)/bare-metal

lint:
	@scripts/dependencies check
	@scripts/lint $(BUILD)

# Writes docs/onnx-support.md anew from the standard's own cases.
onnx-table: all
	@scripts/dependencies check
	@cmake -S . -B $(BUILD) -DNSK_TESTS=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS) --target nsk-standard -- --no-print-directory -s
	@$(BUILD)/nsk-standard --write docs/onnx-support.md

CORES := $(shell sed -n 's/^CORES := //p' ports/bare-metal/cores.mk)
bench: all demo-data
	@scripts/dependencies check
	@for core in $(CORES); do \
	  $(MAKE) --no-print-directory -s -C ports/bare-metal CORE=$$core \
	    BUILD=$(CURDIR)/$(BUILD)/bare-metal/$$core && \
	  $(MAKE) --no-print-directory -s -C ports/bare-metal CORE=$$core PLAIN=1 \
	    BUILD=$(CURDIR)/$(BUILD)/bare-metal-plain/$$core || exit 1; done
	@$(BUILD)/nsk-bench demo/kiln.ini
	@$(BUILD)/nsk-bench-live demo/kiln.ini
	@$(BUILD)/nsk-bench-cores demo/kiln.ini $(BUILD)/bare-metal $(BUILD)/bare-metal-plain $(CORES)
	@$(BUILD)/nsk-bench-frame bench/frame.ini demo/kiln.ini demo/kiln-gated.ini $(BUILD)/bare-metal $(CORES)

# Flips bits under the product's loop and writes the table of docs/porting.md: ten minutes or so on two cores.
FLIPS := 120000
flips: all demo-data
	@scripts/flips $(BUILD)/nsk-flips docs/porting.md $(FLIPS)

# Shows of the device half what no test can: that it holds for all inputs.
proof: all demo-data
	@scripts/dependencies check
	@scripts/proofs $(NETSUKE) $(BUILD)/proof.txt

# Counts every kernel on each emulated core and writes its cost table: ten minutes on two processors.
costs: all
	@scripts/dependencies check
	@printf '%s\n' $(CORES) | xargs -P $(JOBS) -I{} sh -c '\
	  $(MAKE) --no-print-directory -s -C ports/bare-metal CORE={} \
	    BUILD=$(CURDIR)/$(BUILD)/bare-metal/{} && \
	  $(BUILD)/cost-count {} $(BUILD)/bare-metal/{} $(BUILD)/trace.so costs/{}.ini || exit 255'

# How far estimates are from counts on whole networks: writes docs/study.csv and docs/study.svg.
study: all demo-data
	@scripts/dependencies study
	@scripts/study $(NETSUKE) $(BUILD)

# The hand-over of the kiln line's networks on every emulated core.
emulate: all demo-data
	@scripts/dependencies check
	@scripts/emulate $(NETSUKE) $(BUILD)/emulate 20
	@echo
	@BRIEF=demo/kiln-gated.ini scripts/emulate $(NETSUKE) $(BUILD)/emulate-gated 3

# PREFIX is /usr/local where it is not given; DESTDIR goes before it, for packages.
PREFIX := /usr/local
install: all
	@DESTDIR="$(DESTDIR)" cmake --install $(BUILD) --prefix "$(PREFIX)" >/dev/null
	@test -n "$(DESTDIR)" || test "$$(id -u)" -ne 0 || ldconfig
	@echo "netsuke is in $(DESTDIR)$(PREFIX)"

# What the last install put there.
uninstall:
	@test -f $(BUILD)/install_manifest.txt || { echo "nothing was installed from here" >&2; exit 1; }
	@while read -r file || [ -n "$$file" ]; do \
	  rm -f "$(DESTDIR)$$file"; \
	  rmdir -p --ignore-fail-on-non-empty "$$(dirname "$(DESTDIR)$$file")" 2>/dev/null || true; \
	done < $(BUILD)/install_manifest.txt
	@rm -f $(BUILD)/install_manifest.txt

# From what is committed, so that nothing else gets in.
package:
	@scripts/dependencies package
	@rm -rf $(BUILD)/package && mkdir -p $(BUILD)/package/netsuke
	@git archive HEAD | tar -x -C $(BUILD)/package/netsuke
	@cd $(BUILD)/package/netsuke && DEB_BUILD_OPTIONS="parallel=$(JOBS)" dpkg-buildpackage -us -uc >../build.log 2>&1 || \
	  { tail -20 ../build.log >&2; exit 1; }
	@cd $(BUILD)/package && lintian --tag-display-limit 0 *.changes; ls *.deb

# Every target that people use, and what it does.
help:
	@sed -n 's/^#: //p' Makefile

screenshots: all demo-data
	@scripts/dependencies screenshots
	@scripts/screenshots $(NETSUKE)

clean:
	rm -rf $(BUILD) $(BUILD)-sanitise $(BUILD)-gcov $(IMAGES) demo/scenes demo/training* demo/out
