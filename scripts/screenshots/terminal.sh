#!/bin/sh
# Takes docs/screenshots/terminal.png: `status`, a load that is waited for and
# `watch` in a terminal window of a display of its own, with the demo running. Wants xvfb, xterm, imagemagick.
set -eu
cd "$(dirname "$0")/../.."
out="${1:-docs/screenshots/terminal.png}"
rm -f /tmp/.X11-unix/X74 /tmp/.X74-lock # of one that was killed
Xvfb :74 -screen 0 1280x800x24 >/dev/null 2>&1 &
display=$!
trap 'kill $display' EXIT
for _ in 1 2 3 4 5 6 7 8 9 10; do [ -e /tmp/.X11-unix/X74 ] && break; sleep 0.2; done
DISPLAY=:74 xterm -geometry 158x47+0+0 -fa "DejaVu Sans Mono" -fs 10 -bg "#fffefb" -fg "#22292e" +sb -e sh -c '
    PATH="$PWD/bin:$PATH"
    echo "$ rillmark status"; rillmark status
    echo; echo "$ rillmark source reload circulation public.copies --wait"; rillmark source reload circulation public.copies --wait
    echo; echo "$ rillmark watch circulation"; timeout 4 rillmark watch circulation | cut -c1-156 | head -5; sleep 20' &
terminal=$!
sleep 8
DISPLAY=:74 import -window root "$out"
kill $terminal
