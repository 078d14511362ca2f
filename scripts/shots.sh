#!/bin/sh
# Takes the pictures in docs/screenshots from a running demo (make demo). Look at each afterwards.
# usage: scripts/shots.sh [NAME…]   without names all are taken
set -eu
cd "$(dirname "$0")/.."
out=docs/screenshots
address=https://127.0.0.1:7780
demo=$(find /tmp -maxdepth 1 -name 'idletally-demo-*' -type d | head -n 1)
[ -n "$demo" ] || { echo "no demo runs: start it with make demo" >&2; exit 1; }
want="" # packages for pictures of terminals
command -v Xvfb >/dev/null || want="$want xvfb"
command -v xterm >/dev/null || want="$want xterm"
command -v xwd >/dev/null || want="$want x11-apps"
command -v pnmtopng >/dev/null || want="$want netpbm"
# shellcheck disable=SC2086
[ -z "$want" ] || { apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $want; } >/dev/null
export XDG_CONFIG_HOME="$demo/shots" IDLETALLY_NO_PAGER=true DISPLAY=:97 PATH="$PWD/bin:$PATH"
echo "low tide at noon" | idletally login $address --authority "$demo/service/keys/authority.pem" --name quartermaster --password-stdin >/dev/null
snapshot() { idletally snapshot list --application ticketing --host "$1" --output csv | sed -n 2p | cut -d, -f1; }
north=$(snapshot slip-north) south=$(snapshot slip-south)
chromium=$(command -v chromium || echo /usr/lib/chromium/chromium-headless-shell)
wanted() { [ -z "$names" ] && return 0; for x in $names; do [ "$x" = "$1" ] && return 0; done; return 1; }
names="$*"
# A baseline with mistakes, and one that is allowed and probably not meant.
sed 's/folders: 2750/folder: 2750/; s/files: 0640/files: 0840/' demo/baselines/ticketing.yaml > "$demo/mistaken.yaml"
{ cat demo/baselines/ticketing.yaml; printf '\n  - {rule: old-reports, paths: /srv/ticketing/reports/**, files: 0640}\n  - {rule: run-everything, paths: /srv/ticketing/releases/**, files: 0750}\n'; } > "$demo/wide.yaml"
page() { # NAME PERSON PATH [dark] [narrow]
  wanted "$1" || return 0
  n=$1 who=$2 path=$3
  shift 3
  go run ./e2e/shots $address $out "$who" "$n=$path" "$@"
}
terminal() { # NAME COMMANDS, one a line
  wanted "$1" || return 0
  Xvfb $DISPLAY -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
  x=$!
  sleep 1
  { echo 'clear'; printf '%s\n' "$2" | while IFS= read -r l; do printf 'printf "\\033[1m$ %%s\\033[0m\\n" %s\n%s\n' "'$(printf %s "$l" | sed "s/'/'\\\\''/g")'" "$l"; done; echo 'sleep 60'; } > "$demo/shot.sh"
  xterm -geometry 158x50+0+0 -fa 'DejaVu Sans Mono' -fs 9.5 -bg '#f8f5ee' -fg '#20262c' +sb -bc -b 12 -e sh "$demo/shot.sh" &
  t=$!
  sleep 4
  xwd -root -silent | xwdtopnm 2>/dev/null | pnmtopng -compression 9 > "$out/$1.png" 2>/dev/null
  kill $t $x
  wait $t $x 2>/dev/null || true
}
page overview quartermaster /
page look quartermaster "/look?snapshot=$south&path=/srv/ticketing/bin/tool-03&for=ticket-svc"
page account quartermaster "/accounts/clerk-east?snapshot=$south&operation=read"
page share quartermaster "/look?host=chartroom&path=/charts/saltmarsh/soundings&for=deckhand" dark
page look-who quartermaster "/look?snapshot=$south&path=/srv/ticketing/data/quarter-1&tab=who&for=ticket-svc&operation=create"
page calculate - /calculate
page drift quartermaster /drift/ticketing
if wanted report; then
  idletally drift report ticketing > "$demo/drift.html"
  $chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync \
    --hide-scrollbars --user-data-dir="$demo/browser" --screenshot="$PWD/$out/report.png" --window-size=1280,800 "file://$demo/drift.html" >/dev/null 2>&1
fi
terminal command-drift "idletally drift show ticketing"
terminal command-baseline "idletally baseline check $demo/mistaken.yaml
idletally baseline check $demo/wide.yaml
idletally baseline effect $demo/wide.yaml
idletally baseline explain ticketing /srv/ticketing/site/route-07/page-03.html --host slip-north
idletally host list"
terminal command-access "idletally access decide --host slip-south ticket-svc write /srv/ticketing/data/quarter-1/sales-000.db
idletally access holders --host slip-north read /srv/ticketing/keys/tls.key
idletally access below --snapshot $north www-tickets read
idletally access below --snapshot $south ticket-svc write --joining crew"
terminal command-local "idletally mode change 0644 u+x,g=u,o=
idletally entries show u::rw,u:web:rwx,g::r,m::rx,o::- --chmod 0640
idletally path show /tmp
idletally access decide everyone read /etc/shadow"
# These change what the others show, so they come last.
if wanted editor; then
  edition=$(idletally baseline upload "$demo/wide.yaml" --output csv | sed -n "s/^edition,//p")
  page editor quartermaster "/baselines/ticketing/edit?from=$edition"
fi
# fleet.png is of the big demo: go run ./e2e/shots ADDRESS docs/screenshots quartermaster fleet=/drift/fleet
if wanted folders; then
  bin/saltmarsh night >/dev/null
  idletally snapshot take ticketing >/dev/null
  page folders quartermaster "/drift/ticketing?tab=folders&host=slip-north&at=/srv/ticketing/data/quarter-4"
fi
