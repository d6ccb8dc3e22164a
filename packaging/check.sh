#!/usr/bin/env bash
# Installs the package into a bare Debian in a folder, opens a capture there, installs it over itself beside a log, and removes it.
set -euo pipefail
deb=$(realpath "$1") root=$(mktemp -d /tmp/sagen-bare-XXXX)
[ "$(id -u)" = 0 ] || { echo "The check makes a bare Debian in a folder, which root alone may." >&2; exit 1; }
trap 'umount "$root/proc" 2>/dev/null || true; rm -rf "$root"' EXIT
debootstrap --variant=minbase bookworm "$root" "${SAGEN_MIRROR:-http://deb.debian.org/debian}" >/dev/null
mount -t proc proc "$root/proc"
cp -L /etc/resolv.conf "$root/etc/resolv.conf" 2>/dev/null || true
cp /etc/apt/apt.conf.d/*proxy* /etc/apt/apt.conf.d/99* "$root/etc/apt/apt.conf.d/" 2>/dev/null || true
cp "$deb" "$root/tmp/sagen.deb"
inside() { chroot "$root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LANG=C.UTF-8 DEBIAN_FRONTEND=noninteractive "$@"; }
inside apt-get update -q >/dev/null
began=$(date +%s)
inside apt-get install -y -q --no-install-recommends /tmp/sagen.deb >/dev/null
echo "installed in $(($(date +%s) - began)) s, $(du -sm "$root/usr/lib/sagen" | cut -f1) MB"
printf '[circuit]\nrole = "crank"\nsensor = "hall"\nsupply = 12.0\npull_up = 5.0\nwheel = "48-2"\n' > "$root/tmp/circuit.toml"
inside sagen simulate /tmp/circuit.toml --fault "tooth missing" -o /tmp/lost.csv
inside sagen examine /tmp/lost.csv --json | grep -q '"extra_gap"'
inside env LANG=de_DE.UTF-8 sagen examine /tmp/lost.csv | grep -q 'Zahn' || { echo "it does not speak German" >&2; exit 1; }
inside sagen report /tmp/lost.csv -o /tmp/lost.pdf && test -s "$root/tmp/lost.pdf"
# The window itself, on no screen: it comes up, shows the demo's log, and goes.
inside env QT_QPA_PLATFORM=offscreen timeout 20 sagen demo || [ $? = 124 ] || { echo "the window does not come up" >&2; exit 1; }
inside sh -c 'mkdir -p /root/.local/share/sagen && touch /root/.local/share/sagen/mine'
inside dpkg -i /tmp/sagen.deb >/dev/null
test -e "$root/root/.local/share/sagen/mine"
inside apt-get purge -y -q sagen >/dev/null
for gone in usr/lib/sagen usr/bin/sagen; do [ ! -e "$root/$gone" ] || { echo "$gone is left behind" >&2; exit 1; }; done
test -e "$root/root/.local/share/sagen/mine"
echo "opened a capture, printed it, kept the log, and went without a trace"
