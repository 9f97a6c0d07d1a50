#!/bin/sh
# Installs what a fresh Debian 12 machine with Go and Node lacks for the demo and
# the tests: a PostgreSQL and a MariaDB server and the console's packages; for the tests
# also Chromium, the servers that events are delivered to, and clients to read them
# back; for the soak also MariaDB's own tests with their interpreter, and sysbench. Does nothing where
# all is there; says plainly what is missing where it cannot install.
set -eu
cd "$(dirname "$0")/.."

missing=""
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
[ -x /usr/sbin/mariadbd ] && command -v mariadb-install-db >/dev/null || missing="$missing mariadb-server"
tests=""
case "${1:-}" in
--tests) tests=yes ;;
--soak)
    tests=yes
    [ -d /usr/share/mysql/mysql-test ] || missing="$missing mariadb-test-data"
    command -v mariadb-test >/dev/null || missing="$missing mariadb-test"
    command -v sysbench >/dev/null || missing="$missing sysbench"
    ;;
esac
if [ -n "$tests" ]; then
    [ -x /usr/bin/chromium ] || missing="$missing chromium"
    for package in kcat redis-server redis-tools nats-server; do
        tool=$package
        [ $package = redis-tools ] && tool=redis-cli
        [ -x /usr/bin/$tool ] || [ -x /usr/sbin/$tool ] || missing="$missing $package"
    done
fi
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
    # Runlevel 1: the packages' own services are not started; the tests start theirs.
    if ! { $run apt-get update -qq && $run env RUNLEVEL=1 DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null; }; then
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

if [ -n "$tests" ] && { [ ! -e test/readers/node_modules/.package-lock.json ] || [ test/readers/package-lock.json -nt test/readers/node_modules/.package-lock.json ]; }; then
    echo "setup: fetching the readers that the tests use …"
    (cd test/readers && npm ci --no-audit --no-fund --loglevel=error)
fi

if [ -n "$tests" ] && { [ ! -e test/servers/node_modules/.package-lock.json ] || [ test/servers/package-lock.json -nt test/servers/node_modules/.package-lock.json ]; }; then
    echo "setup: fetching newer PostgreSQL servers for the tests …"
    (cd test/servers && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error) ||
        echo "setup: they could not be fetched: the tests on PostgreSQL 16 to 18 are skipped." >&2
fi
