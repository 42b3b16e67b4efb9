# Karst: `make demo` starts the demo cluster, `make test` runs everything, `make bench` measures.
# Each installs what it needs first (Debian packages, npm packages); a Rust toolchain is the one prerequisite.

SHELL := /bin/bash
.DELETE_ON_ERROR:
.PHONY: demo test bench check packages toolchain console

PACKAGES := postgresql-15 postgresql-client-15 nftables iproute2 util-linux chromium chromium-driver nodejs npm

toolchain:
	@command -v cargo >/dev/null || { echo "Karst needs a Rust toolchain (cargo 1.95 or newer) on the PATH."; exit 1; }

# Debian's package starts a cluster of its own at install: not wanted here.
packages:
	@missing=""; for p in $(PACKAGES); do \
	  case $$p in nodejs|npm) command -v $${p/nodejs/node} >/dev/null && continue;; esac; \
	  dpkg-query -W -f='$${Status}' $$p 2>/dev/null | grep -q "ok installed" || missing="$$missing $$p"; \
	done; \
	if [ -n "$$missing" ]; then \
	  echo "Installing:$$missing"; \
	  if [ "$$(id -u)" != 0 ]; then SUDO=sudo; fi; \
	  $$SUDO mkdir -p /etc/postgresql-common; \
	  [ -e /etc/postgresql-common/createcluster.conf ] || echo 'create_main_cluster = false' | $$SUDO tee /etc/postgresql-common/createcluster.conf >/dev/null; \
	  $$SUDO apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$SUDO apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	fi

test: toolchain packages
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --locked -- -D warnings
	@command -v cargo-nextest >/dev/null || cargo install --locked cargo-nextest
	cargo nextest run --workspace --locked
