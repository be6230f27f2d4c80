# Shared by ./run and ./test: packages, configuring and building, quietly, with the step's name on failure.
# shellcheck shell=bash
root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$root" || exit 1
mkdir -p build/logs

# step NAME LOG COMMAND...: one line when it works; the last lines and the log's place when it does not.
step() {
    local name=$1 log=build/logs/$2.log; shift 2
    printf '%s ... ' "$name"
    local from=$SECONDS
    if "$@" >"$log" 2>&1; then
        printf 'done (%s s)\n' "$((SECONDS - from))"
    else
        printf 'failed\n\nThe last lines:\n' && tail -n 25 "$log"
        printf '\nThe step “%s” failed. All of it: %s/%s\n' "$name" "$root" "$log"
        exit 1
    fi
}

wanted_packages() { awk '$1 !~ /^#/ && NF {print $1}' packaging/debian-packages.txt; }

install_packages() {
    local sudo=
    [ "$(id -u)" = 0 ] || sudo=sudo
    $sudo apt-get update -qq
    # shellcheck disable=SC2046
    DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y --no-install-recommends $(wanted_packages)
}

packages() {
    # Asking dpkg is quick; apt is called only when something is missing.
    local installed
    installed=$(dpkg-query -W -f '${db:Status-Abbrev} ${Package}\n' 2>/dev/null | awk '$1 == "ii" {print $2}' | sort -u)
    if [ -n "$(comm -23 <(wanted_packages | sort -u) <(printf '%s\n' "$installed"))" ]; then
        step "Installing Debian packages" packages install_packages
    fi
}

build() {
    [ -f build/release/build.ninja ] || step "Configuring" configure cmake --preset release
    step "Building" build cmake --build build/release
}

demo_media() { step "Making the demo's clips" demo build/release/bin/ruedo-demo demo/media; }
