#!/usr/bin/env bash
# Makes docs/screenshots anew from the demo: each a picture of a real terminal window (xterm under Xvfb, 1280x800).
# Needs Debian's xvfb xterm imagemagick fonts-jetbrains-mono fonts-dejavu-core, and chromium for the page. Ends only what it started.
set -euo pipefail
top=$(cd "$(dirname "$0")/.." && pwd)
for program in Xvfb xterm; do
  command -v "$program" >/dev/null || { echo "screenshots: $program is missing; on Debian: apt-get install xvfb xterm imagemagick fonts-jetbrains-mono fonts-dejavu-core"; exit 1; }
done
import=/usr/bin/import-im6
[ -x "$import" ] || import=/usr/bin/import
work=$(mktemp -d)
pids=()
trap 'for p in "${pids[@]}"; do kill "$p" 2>/dev/null || :; wait "$p" 2>/dev/null || :; done; rm -rf "$work"' EXIT
mkdir -p "$top/docs/screenshots"
cd "$work"
usher-gate demo northmere >/dev/null 2>&1
cd northmere

# shot NAME COMMAND...: runs a command in a fresh terminal and saves its picture
shot() {
  local name=$1 display xpid tpid run
  shift
  run=$*
  # TOP=N shows the first N lines, as a terminal has them before it scrolls
  [ -z "${TOP:-}" ] || run="script -qc $(printf %q "$*") /dev/null | head -$TOP"
  rm -f "$work/display" "$work/done"
  Xvfb -displayfd 3 -screen 0 1280x800x24 -dpi 96 -nolisten tcp 3>"$work/display" 2>/dev/null & xpid=$!
  pids+=("$xpid")
  for _ in $(seq 100); do [ -s "$work/display" ] && break; sleep 0.1; done
  display=":$(cat "$work/display")"
  printf '%s\n' "printf '\\033[?25l\\033[1;32m\$\\033[0m %s\\n' '$*'" "$run" "touch '$work/done'" 'sleep 60' > "$work/session"
  DISPLAY=$display LANG=C.UTF-8 LC_ALL=C.UTF-8 xterm -u8 -tn xterm-256color -fa 'JetBrains Mono' -fs "${FONT:-11}" -geometry "${CELLS:-141x39}+0+0" \
    -bg '#101418' -fg '#e6e6e6' +sb -bw 0 -b 5 -xrm '*boldMode: true' -xrm '*color1: #ff5f5f' -xrm '*color4: #5c9cff' \
    -xrm '*color5: #d787ff' -e env COLORTERM=truecolor bash "$work/session" 2>/dev/null & tpid=$!
  pids+=("$tpid")
  for _ in $(seq 200); do [ -e "$work/done" ] && break; sleep 0.1; done
  sleep 0.6
  DISPLAY=$display "$import" -window root "$top/docs/screenshots/$name.png"
  kill "$tpid" "$xpid" 2>/dev/null || :
  wait "$tpid" "$xpid" 2>/dev/null || :
  echo "docs/screenshots/$name.png"
}

export FONT=10 CELLS=128x44 # everything that fits one screen, and the line of the call
shot check usher-gate check
shot why usher-gate why asta.brandt@northmere.example door.waiting-room --service tidecall
shot why-person usher-gate why dagny.nerheim@northmere.example
shot why-rule usher-gate why N1001 --rule DOOR-01 --service tidecall
shot exceptions usher-gate exceptions
shot baseline usher-gate baseline --rule DOOR-01
shot sign-in usher-gate sign-in asta.brandt@northmere.example --resource cargo-portal
shot holes usher-gate holes
shot door usher-gate door
shot door-host usher-gate door asta.brandt@northmere.example
shot door-meeting usher-gate door --meeting dock-plans
shot rehearse-changes usher-gate rehearse --changes changes/own-organisation-only.yaml
shot history usher-gate history --since 3
shot guests-read usher-gate guests --read review --on 2026-12-05
shot mend usher-gate mend
shot rehearse usher-gate rehearse --draft drafts/cargo-portal.yaml
usher-gate mend --format json --out plan.json >/dev/null 2>&1 || :
usher-gate report --plan plan.json 2>/dev/null
/usr/bin/chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$top/docs/screenshots/report.png" "file://$PWD/report.html" >/dev/null 2>&1
echo docs/screenshots/report.png

# Gathering: a practice ground beside a folder that gathers from it.
mkdir -p "$work/practice" && cd "$work/practice"
cp ../northmere/snapshot/{organisation,services,access-rules}.yaml ../northmere/baseline.yaml ../northmere/exceptions.yaml .
export STAND_IN_SECRET=a-secret-of-my-own
port=$(python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])')
usher-gate stand-in --port "$port" --misbehave 429 --misbehave cut >/dev/null 2>&1 & pids+=("$!")
access="client_id = \"practice\"
client_secret = \"env:STAND_IN_SECRET\"
token_url = \"http://127.0.0.1:$port/token\""
cat > usher-gate.toml <<TOML
snapshot = "snapshot"
baseline = "baseline.yaml"

[gather]
keep = 7

[[gather.source]]
name = "by hand"
kind = "files"
paths = ["organisation.yaml", "services.yaml", "access-rules.yaml"]

[[gather.source]]
name = "directory"
kind = "scim"
url = "http://127.0.0.1:$port/scim/v2"
$access

[[gather.source]]
name = "services"
kind = "service"
url = "http://127.0.0.1:$port"
services = ["tidecall", "quaychat", "beaconcast"]
tables = ["authenticators", "passes", "partners", "observations"]
$access

[[gather.source]]
name = "roster"
kind = "table"
path = "roster.csv"
mapping = "roster-map.yaml"
TOML
printf '%s\n' account,mail,type,wait_room,shoe N1001,asta.brandt@northmere.example,E,true,44 N1002,bjarke.vik@northmere.example,E,perhaps,41 > roster.csv
cat > roster-map.yaml <<YAML
usher-gate: mapping/1
into:
  - table: people
    columns: {id: account, login: mail, kind: {from: type, values: {E: member, X: guest}}}
  - settings: tidecall
    scope: {level: person, from: account}
    controls:
      door.waiting-room: {from: wait_room, values: {"true": members, "false": everyone}}
YAML
until usher-gate gather --try directory >/dev/null 2>&1; do sleep 0.2; done
shot gather 'usher-gate gather; usher-gate gather --partial; usher-gate gather --try roster'
