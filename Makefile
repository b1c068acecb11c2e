# Every target does the set-up it needs: see README.md for what each installs.
SHELL := /bin/bash
.DEFAULT_GOAL := help
CARGO ?= cargo

# What building needs beside Rust and Node.js.
BUILD_PACKAGES := build-essential
# What the programs that are unpacked below (target/witnesses) need.
READER_PACKAGES := python3 python3-pip python3-yaml python3-jsonschema python3-jinja2 python3-configobj python3-oauthlib \
	python3-requests python3-jsonpatch libglib2.0-0 libyaml-0-2
# What the tests run, or ask as a witness.
TEST_PACKAGES := chromium chromium-driver curl debconf grub-common busybox-static iproute2 nftables procps tshark \
	xorriso cpio dmidecode kmod xz-utils zstd file ipxe pxelinux shim-signed grub-efi-amd64-signed grub-efi-amd64-bin \
	syslinux-common debian-installer-12-netboot-amd64 mtools dosfstools bind9-utils libxml2-utils e2fsprogs fdisk xfsprogs btrfs-progs $(READER_PACKAGES)
# What the benchmarks measure against.
BENCH_PACKAGES := nginx-light xorriso
# A root made of Debian's packages, and a way into it.
INSTALL_PACKAGES := mmdebstrap squashfs-tools openssh-client
# What makes the clean root of `make test-clean`.
CLEAN_PACKAGES := mmdebstrap
# Real firmware, loaders and an installer.
FIRMWARE_PACKAGES := qemu-system-x86 ovmf shim-signed grub-efi-amd64-signed grub-efi-amd64-bin grub-pc-bin \
	grub-common iproute2 debian-installer-12-netboot-amd64 xorriso pxelinux syslinux-common ipxe mtools dosfstools busybox-static
# A machine with the other kind of processor.
SURVEY_PACKAGES := qemu-system-arm qemu-efi-aarch64

.PHONY: help
help: ## Show this list
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 18

# Installs those of the named Debian packages that are not there.
define packages
	@missing=$$(for p in $(1); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || echo $$p; done); \
	if [ -n "$$missing" ]; then \
		echo "installing: $$missing"; \
		as_root=$$([ "$$(id -u)" = 0 ] || echo sudo); \
		$$as_root apt-get update -qq && \
		DEBIAN_FRONTEND=noninteractive $$as_root apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	fi
endef

# The packages that README.md names, a line per target: a test compares them.
.PHONY: list-packages
list-packages:
	@echo "build: $(BUILD_PACKAGES)"
	@echo "test: $(TEST_PACKAGES)"
	@echo "test-firmware: $(FIRMWARE_PACKAGES)"
	@echo "test-survey: $(SURVEY_PACKAGES)"
	@echo "test-install: $(INSTALL_PACKAGES)"
	@echo "test-clean: $(CLEAN_PACKAGES)"
	@echo "bench: $(BENCH_PACKAGES)"
	@echo "agents: $(ARM64_PACKAGES)"

.PHONY: packages-build packages-test packages-bench packages-firmware packages-survey packages-install packages-clean
packages-build:
	$(call packages,$(BUILD_PACKAGES))
packages-test: packages-build
	$(call packages,$(TEST_PACKAGES))
	@$(MAKE) --no-print-directory target/witnesses/whole

DOWNLOAD := apt-get -o APT::Sandbox::User=root download -qq cloud-init netplan.io libnetplan0 ifupdown memtest86+ grub-rescue-pc lldpd libsnmp40 libsensors5 libevent-2.1-7 libpci3 libwrap0 libnsl2 libtirpc3 libperl5.36 openipmi libopenipmi0 libpopt0 ipmitool libfreeipmi17

# The package files of another architecture, with lists of packages of their own: this machine's stay as they are.
ARM64 = apt-get -qq -o APT::Sandbox::User=root -o APT::Architecture=arm64 -o APT::Architectures=arm64 \
	-o Dir::State::status=/dev/null -o Dir::State::Lists=$$PWD/apt/lists -o Dir::Cache=$$PWD/apt/cache

# Programs that read what we write, for the tests to ask, and discs and packages for them to read. They are unpacked and not
# installed: cloud-init would take charge of this very machine when it starts the next time, and lldpd speak on its network.
target/witnesses/whole: Makefile
	@echo "unpacking: cloud-init ifupdown netplan.io memtest86+ grub-rescue-pc lldpd openipmi ipmitool pykickstart sushy-tools"
	@# Kernels lie beside them, fetched by others.
	@rm -rf $(addprefix $(@D)/,root arm64 python redfish) && mkdir -p $(@D)/root
	@# Lists of packages that are old or not there are fetched first, and what apt says of them is shown.
	@cd $(@D) && { $(DOWNLOAD) 2>/dev/null || { \
			as_root=$$([ "$$(id -u)" = 0 ] || echo sudo); $$as_root apt-get update -qq && $(DOWNLOAD); }; } && \
		for package in *.deb; do dpkg-deb -x $$package root; done && rm -f *.deb
	@mkdir -p $(@D)/arm64/apt/lists/partial $(@D)/arm64/apt/cache/archives/partial && cd $(@D)/arm64 && \
		$(ARM64) update && $(ARM64) download shim-signed grub-efi-arm64-signed grub-efi-arm64-bin && rm -rf apt
	@/usr/bin/python3 -m pip install --quiet --disable-pip-version-check --root-user-action=ignore --no-deps \
		--target $(@D)/python pykickstart==3.78
	@/usr/bin/python3 -m pip install --quiet --disable-pip-version-check --root-user-action=ignore \
		--target $(@D)/redfish sushy-tools==2.2.0
	@touch $@
packages-bench: packages-build
	$(call packages,$(BENCH_PACKAGES))
packages-firmware: packages-build
	$(call packages,$(FIRMWARE_PACKAGES))
	@$(MAKE) --no-print-directory target/witnesses/kernel/whole

# Debian's kernel, as the package file that the survey's system is made of.
KERNEL = $$(apt-cache depends linux-image-amd64 | grep -o 'linux-image-[0-9][^ ]*' | head -1)
target/witnesses/kernel/whole: Makefile
	@echo "fetching a kernel's package: linux-image-amd64"
	@rm -rf $(@D) && mkdir -p $(@D)
	@cd $(@D) && { apt-get -o APT::Sandbox::User=root download -qq $(KERNEL) 2>/dev/null || { \
		as_root=$$([ "$$(id -u)" = 0 ] || echo sudo); $$as_root apt-get update -qq && \
		apt-get -o APT::Sandbox::User=root download -qq $(KERNEL); }; }
	@touch $@

packages-survey: packages-test packages-firmware
	$(call packages,$(SURVEY_PACKAGES))
	@$(MAKE) --no-print-directory target/witnesses/kernel-arm64/whole

target/witnesses/kernel-arm64/whole: Makefile
	@echo "fetching packages: linux-image-arm64 busybox-static:arm64"
	@rm -rf $(@D) && mkdir -p $(@D)/apt/lists/partial $(@D)/apt/cache/archives/partial
	@cd $(@D) && $(ARM64) update && $(ARM64) download busybox-static \
		$$($(subst apt-get,apt-cache,$(ARM64)) depends linux-image-arm64 | grep -o 'linux-image-[0-9][^ ]*' | head -1) && rm -rf apt
	@touch $@

packages-install: packages-firmware
	$(call packages,$(INSTALL_PACKAGES))

packages-clean:
	$(call packages,$(CLEAN_PACKAGES))

console/node_modules: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

CONSOLE_SOURCES := $(shell find console/src console/public -type f ! -name '*.gen.ts' 2>/dev/null) \
	console/index.html console/vite.config.ts crates/api/openapi.json

console/dist/index.html: console/node_modules $(CONSOLE_SOURCES)
	cd console && npm run --silent build

.PHONY: console
console: console/dist/index.html ## Build the console

# The agent is sent to every machine that is surveyed: one program for each kind of processor, which needs nothing beside it.
AGENT_SOURCES := $(shell find crates/agent/src crates/survey/src crates/formats/src -name '*.rs') \
	crates/agent/Cargo.toml crates/survey/Cargo.toml crates/formats/Cargo.toml
agents/x64/agent: $(AGENT_SOURCES)
	RUSTFLAGS='-C target-feature=+crt-static' $(CARGO) build --quiet --profile agent --package lastmile-agent \
		--bin lastmile-agent --target x86_64-unknown-linux-gnu
	@mkdir -p $(@D) && cp target/x86_64-unknown-linux-gnu/agent/lastmile-agent $@

# For arm64 with Debian's compiler, which brings that processor's standard library as a package; the package file is unpacked.
ARM64_PACKAGES := rustc-web gcc-aarch64-linux-gnu libc6-dev-arm64-cross
CROSS := $(CURDIR)/target/cross
target/cross/rustc: Makefile
	$(call packages,$(ARM64_PACKAGES))
	@rm -rf $(@D) && mkdir -p $(@D)/apt/lists/partial $(@D)/apt/cache/archives/partial $(@D)/sysroot/lib/rustlib
	@cd $(@D) && $(ARM64) update && $(ARM64) download libstd-rust-web-dev && dpkg-deb -x libstd-rust-web-dev_*.deb root && \
		rm -rf apt *.deb
	@for cpu in x86_64 aarch64; do \
		[ $$cpu = x86_64 ] && root= || root=$(CROSS)/root; \
		ln -s $$root/usr/lib/rustlib/$$cpu-unknown-linux-gnu $(@D)/sysroot/lib/rustlib/; \
	done
	@printf '#!/bin/sh\nexec /usr/bin/rustc --sysroot "%s" "$$@"\n' $(CROSS)/sysroot >$@ && chmod +x $@

agents/arm64/agent: $(AGENT_SOURCES) target/cross/rustc
	RUSTC=$(CROSS)/rustc CARGO_TARGET_AARCH64_UNKNOWN_LINUX_GNU_LINKER=aarch64-linux-gnu-gcc \
		RUSTFLAGS='-C target-feature=+crt-static' $(CARGO) build --quiet --profile agent --package lastmile-agent \
		--bin lastmile-agent --target aarch64-unknown-linux-gnu --target-dir $(CROSS)/build
	@mkdir -p $(@D) && cp $(CROSS)/build/aarch64-unknown-linux-gnu/agent/lastmile-agent $@

.PHONY: agent agents
agent: packages-build agents/x64/agent ## Build the survey's agent for x64 processors
agents: agent agents/arm64/agent ## Build it for arm64, too

.PHONY: build
build: packages-build console agent ## Build everything
	$(CARGO) build

.PHONY: demo
demo: packages-build console agent ## Run the demo: open the address it prints in a browser
	$(CARGO) run --quiet --package lastmile -- demo

.PHONY: test
test: packages-test console agent ## Run every test but the long ones with real firmware
	$(CARGO) test --workspace

.PHONY: test-firmware
test-firmware: packages-firmware console agent ## Boot real firmware, loaders and an installer in an emulator (minutes)
	$(CARGO) test --workspace -- --ignored --skip stateless:: --skip long:: --nocapture --test-threads 2

.PHONY: test-survey
test-survey: packages-survey console agents ## Survey emulated machines with every kind of firmware and processor (minutes)
	$(CARGO) test --workspace -- --ignored --nocapture --test-threads 2 survey::

.PHONY: test-install
test-install: packages-install console agent ## Make a small Debian root, start it from memory on real firmware, log in (minutes)
	$(CARGO) test --workspace -- --ignored --nocapture stateless::

.PHONY: test-clean
test-clean: packages-clean ## The demo, run through, and every test of `make test` in a fresh Debian root
	scripts/test-clean

.PHONY: lint
lint: packages-build console ## Formatting, clippy, the console's types and lint
	$(CARGO) fmt --check
	$(CARGO) clippy --workspace --all-targets --all-features -- -D warnings
	@# Its types were checked when it was built.
	cd console && npm run --silent lint

.PHONY: bench
bench: packages-bench packages-test console ## Measure against floors in the same run
	$(CARGO) bench --package lastmile --bench library --bench wire --bench console
	$(CARGO) bench --package lastmile-core --bench answers

# The toolchain's unstable flags are what the fuzzer's own are.
FUZZ_SECONDS ?= 60
FUZZ_TARGETS := dhcp tftp texts drafts trace menu images hardware bmc
.PHONY: fuzz
fuzz: packages-build ## Any bytes to any parser, a minute each
	@command -v cargo-fuzz >/dev/null || $(CARGO) install --locked cargo-fuzz
	set -e; for target in $(FUZZ_TARGETS); do \
		RUSTC_BOOTSTRAP=1 $(CARGO) fuzz run --sanitizer none $$target -- -max_total_time=$(FUZZ_SECONDS) -rss_limit_mb=4096; \
	done

.PHONY: contract
contract: ## Accept the API as the routes make it, and write the client's calls and the form of the settings from it; review all
	LASTMILE_ACCEPT=1 $(CARGO) test --quiet --package lastmile-server --test openapi
	LASTMILE_ACCEPT=1 $(CARGO) test --quiet --package lastmile-api --test client_calls --test settings

.PHONY: reference
reference: console ## Write docs/commands.md from the commands' own help, docs/calls.md from the API's document, docs/coverage.md
	$(CARGO) run --quiet --package lastmile -- reference > docs/commands.md
	$(CARGO) run --quiet --package lastmile -- reference --api > docs/calls.md
	LASTMILE_ACCEPT=1 $(CARGO) test --quiet --package lastmile --test architecture every_call_has

.PHONY: screenshots
screenshots: build packages-test ## Take docs/screenshots/ from the demo
	$(call packages,xvfb xterm imagemagick fonts-dejavu-core)
	scripts/terminal-screenshots
	@# The tests take more than are kept: those that lie there are taken anew.
	rm -rf target/screenshots && mkdir -p target/screenshots
	LASTMILE_SCREENSHOTS=$(CURDIR)/target/screenshots $(CARGO) test --workspace --test console
	for picture in docs/screenshots/console-*.png; do cp target/screenshots/$${picture##*/} $$picture; done

.PHONY: release
release: packages-build console ## Build for use
	$(CARGO) build --release --package lastmile

.PHONY: install
install: ## Install what `make release` has built: the binary, the unit and an example configuration. Compiles nothing
	@test -x target/release/lastmile || { echo "target/release/lastmile is not there: run 'make release' first, as yourself" >&2; exit 1; }
	install -D -m 755 target/release/lastmile $(DESTDIR)/usr/local/bin/lastmile
	install -D -m 644 packaging/lastmile.service $(DESTDIR)/etc/systemd/system/lastmile.service
	test -e $(DESTDIR)/etc/lastmile/lastmile.toml || \
		install -D -m 644 crates/server/lastmile.example.toml $(DESTDIR)/etc/lastmile/lastmile.toml
