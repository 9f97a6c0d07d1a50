#!/bin/sh
# Installs what a fresh Debian 12 machine with Go and Node lacks for the demo and
# the tests: a PostgreSQL server, Chromium, and the console's packages. Does
# nothing where all is there; says plainly what is missing where it cannot install.
set -eu
cd "$(dirname "$0")/.."

missing=""
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
[ -x /usr/bin/chromium ] || [ "${1:-}" != "--tests" ] || missing="$missing chromium"
if [ -n "$missing" ]; then
    if ! command -v apt-get >/dev/null; then
        echo "setup: missing:$missing. This is no Debian machine: install them by hand (PostgreSQL below /usr/lib/postgresql, Chromium at /usr/bin/chromium)." >&2
        exit 1
    fi
    run=""
    if [ "$(id -u)" != 0 ]; then
        command -v sudo >/dev/null || { echo "setup: missing:$missing. As root: apt-get install$missing" >&2; exit 1; }
        run="sudo"
    fi
    echo "setup: installing$missing …"
    # The package would start a cluster of its own; ours is below a folder of the project.
    if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
        $run mkdir -p /etc/postgresql-common
        printf 'create_main_cluster = false\n' | $run tee /etc/postgresql-common/createcluster.conf >/dev/null
    fi
    if ! { $run apt-get update -qq && DEBIAN_FRONTEND=noninteractive $run apt-get install -y -qq --no-install-recommends $missing >/dev/null; }; then
        echo "setup: could not install$missing. Install them by hand and try again." >&2
        exit 1
    fi
fi

for tool in go node npm; do
    command -v $tool >/dev/null || { echo "setup: $tool is not installed: Go 1.26 and Node 20 or later are needed." >&2; exit 1; }
done

if [ ! -e console/node_modules/.package-lock.json ] || [ console/package-lock.json -nt console/node_modules/.package-lock.json ]; then
    echo "setup: fetching the console's packages …"
    (cd console && npm ci --no-audit --no-fund --loglevel=error)
fi
