# Karst: `make demo` starts the demo cluster, `make test` runs everything, `make bench` measures, `make soak` looks for seeds that
# break a guarantee.
# Each installs what it needs first (Debian packages, npm packages); a Rust toolchain is the one prerequisite.

SHELL := /bin/bash
.DELETE_ON_ERROR:
.PHONY: demo test faults soak plants bench install packages toolchain console build

RUST_NEEDED := 1.95
PACKAGES := postgresql-15 postgresql-client-15 iproute2 nftables util-linux mount e2fsprogs tcpdump curl knot knot-dnsutils chromium chromium-driver nodejs npm build-essential

toolchain:
	@have=$$(rustc --version 2>/dev/null | cut -d' ' -f2); \
	if [ "$$(printf '%s\n' $(RUST_NEEDED) "$${have:-0}" | sort -V | head -1)" != $(RUST_NEEDED) ]; then \
	  echo "Karst needs a Rust toolchain of $(RUST_NEEDED) or newer on the PATH; found: $${have:-none}."; exit 1; fi

# Debian's packages start a database and a name server of their own at install: not wanted here.
packages:
	@missing=""; for p in $(PACKAGES); do \
	  case $$p in nodejs) command -v node >/dev/null && continue;; npm) command -v npm >/dev/null && continue;; esac; \
	  dpkg-query -W -f='$${Status}' $$p 2>/dev/null | grep -q "ok installed" || missing="$$missing $$p"; \
	done; \
	if [ -n "$$missing" ]; then \
	  echo "Installing:$$missing"; \
	  sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
	  $$sudo mkdir -p /etc/postgresql-common && \
	  { [ -e /etc/postgresql-common/createcluster.conf ] || echo 'create_main_cluster = false' | $$sudo tee /etc/postgresql-common/createcluster.conf >/dev/null; } && \
	  case $$missing in *" knot "*) [ ! -d /run/systemd/system ] || $$sudo systemctl --quiet mask knot;; esac; \
	  $$sudo apt-get update -qq && \
	  $$sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	  case $$missing in *" knot "*) [ ! -d /run/systemd/system ] || { $$sudo systemctl --quiet unmask knot; $$sudo systemctl --quiet disable knot; };; esac; \
	fi

console/node_modules: console/package-lock.json console/package.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

console: packages console/node_modules
	cd console && npm run --silent lint && npm run --silent build

build: toolchain console
	cargo build --workspace --all-targets --locked

demo: toolchain console
	cargo build --workspace --bins --locked
	target/debug/karst-lab demo --name

test: build
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --locked -- -D warnings
	@command -v cargo-nextest >/dev/null || cargo install --locked cargo-nextest
	cargo nextest run --workspace --locked

# What needs a machine of its own: whole hosts that fail, against the time bounds.
faults: build
	cargo nextest run --workspace --locked --run-ignored only

# Random faults over every shape of cluster, on every core, for so many seconds.
SOAK_SECONDS ?= 600
soak: toolchain
	SOAK_SECONDS=$(SOAK_SECONDS) cargo run --profile soak --locked -p karst-sim --example soak

# Rules broken in the sources, one after the other: the test of each has to fail.
plants: build
	cargo run --locked -p karst-lab --example plants

# What is measured is what would be installed.
bench: toolchain console
	cargo build --release --locked --bins
	target/release/karst-lab bench

# The programs, their manual pages and completions.
PREFIX ?= /usr/local
install: toolchain console
	cargo build --release --locked --bins
	install -d $(DESTDIR)$(PREFIX)/bin $(DESTDIR)$(PREFIX)/share/man/man1 \
	  $(DESTDIR)$(PREFIX)/share/bash-completion/completions $(DESTDIR)$(PREFIX)/share/zsh/site-functions \
	  $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d
	install -t $(DESTDIR)$(PREFIX)/bin target/release/karst target/release/karstd
	install -d $(DESTDIR)$(PREFIX)/lib/systemd/system
	install -m 0644 -t $(DESTDIR)$(PREFIX)/lib/systemd/system packaging/karst.service packaging/karst-deadman.service
	sed -i 's:/usr/bin/karstd:$(PREFIX)/bin/karstd:' $(DESTDIR)$(PREFIX)/lib/systemd/system/karst.service \
	  $(DESTDIR)$(PREFIX)/lib/systemd/system/karst-deadman.service
	target/release/karst manual $(DESTDIR)$(PREFIX)/share/man/man1
	target/release/karst completions bash > $(DESTDIR)$(PREFIX)/share/bash-completion/completions/karst
	target/release/karst completions zsh > $(DESTDIR)$(PREFIX)/share/zsh/site-functions/_karst
	target/release/karst completions fish > $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/karst.fish
