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
    "$@" >"$log" 2>&1 &
    local work=$! result
    progress "$work" "$log"
    wait "$work"; result=$?
    if [ $result = 0 ]; then
        printf 'done (%s s)\n' "$((SECONDS - from))"
    else
        printf 'failed\n\nThe last lines:\n' && tail -n 25 "$log"
        printf '\nThe step “%s” failed. All of it: %s/%s\n' "$name" "$root" "$log"
        exit 1
    fi
}

# progress PID LOG: while PID runs, how far the "[done/all]" in its log has come and how long is left; in place on a
# terminal, every quarter elsewhere. Weighed by time passed, so the first half minute says nothing.
progress() {
    local from=$SECONDS quarter=0 done all left words
    while kill -0 "$1" 2>/dev/null; do
        sleep 0.2
        [ $((SECONDS - from)) -ge 5 ] || continue
        words=$(tail -c 400 "$2" 2>/dev/null | grep -oE '\[[0-9]+/[0-9]+\]' | tail -n 1)
        [ -n "$words" ] || continue
        IFS='[/]' read -r _ done all _ <<<"$words"
        [ "$done" -gt 0 ] || continue
        left=$(((SECONDS - from) * (all - done) / done))
        words=$(printf '%d %%, about %d:%02d left' $((100 * done / all)) $((left / 60)) $((left % 60)))
        if [ -t 1 ]; then
            printf '\0337%s  \0338' "$words"
        elif [ $((4 * done / all)) -gt $quarter ] && [ "$done" -lt "$all" ]; then
            quarter=$((4 * done / all))
            printf '%s ... ' "$words"
        fi
    done
    [ -t 1 ] && printf '\033[K'
}

# wanted_packages KIND...: those of the list that are needed for one of these (build, run, test, docs).
wanted_packages() {
    awk -v kinds=" $* " '$1 !~ /^#/ && NF && index(kinds, " " $2 " ") {print $1}' packaging/debian-packages.txt
}

install_packages() {
    local sudo=
    [ "$(id -u)" = 0 ] || sudo=sudo
    $sudo apt-get update -qq
    DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y --no-install-recommends "$@"
}

# packages KIND...: installs those that are missing. Asking dpkg is quick; apt is called only when something is.
packages() {
    local missing
    missing=$(comm -23 <(wanted_packages "$@" | sort -u) <(
        dpkg-query -W -f '${db:Status-Abbrev} ${Package}\n' 2>/dev/null | awk '$1 == "ii" {print $2}' | sort -u))
    # shellcheck disable=SC2086
    [ -z "$missing" ] || step "Installing Debian packages" packages install_packages $missing
}

# build [TARGET...]: these, or everything. Tests are configured where their packages are there.
build() {
    local catch=OFF
    [ -e /usr/include/catch2/catch.hpp ] && catch=ON
    if [ ! -f build/release/build.ninja ] || ! grep -q "RUEDO_TESTS:BOOL=$catch" build/release/CMakeCache.txt; then
        step "Configuring" configure cmake --preset release -DRUEDO_TESTS=$catch
    fi
    step "Building" build cmake --build build/release "${@/#/--target=}"
}

demo_media() { step "Making the demo's clips" demo build/release/bin/ruedo-demo demo/media; }
