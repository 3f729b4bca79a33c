#!/usr/bin/env bash
# Makes the pictures in this folder from the demo data: pages in headless
# Chromium, commands in a terminal window under Xvfb. Run by "make screenshots".
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
cd "$here/../.."
for tool in "Xvfb xvfb" "xterm xterm" "import imagemagick"; do
  # shellcheck disable=SC2086
  scripts/need $tool fonts-dejavu-core
done
shots=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null; rm -rf "$shots"' EXIT

IRONLEDGER_SHOTS=$shots go test ./e2e -run 'TestConsole|TestTheDesk' -count=1
for page in overview devices device rulebook rehearsal certificates exceptions sources ask-deny decisions decision dark; do
  cp "$shots/console-$page.png" "$here/"
done

export IRONLEDGER_ADMIN_TOKEN=il_pictures_of_the_demo IRONLEDGER_TOKEN=il_pictures_of_the_demo IRONLEDGER_URL=http://127.0.0.1:8677
bin/ironledger demo --listen 127.0.0.1:8677 >"$shots/demo.log" 2>&1 &
until grep -q open "$shots/demo.log"; do sleep 0.2; done
Xvfb :77 -screen 0 1280x800x24 >/dev/null 2>&1 &
sleep 1
export DISPLAY=:77 PATH="$PWD/bin:$PATH"

# terminal NAME SECONDS COMMAND...: runs commands one after another and keeps
# what the window shows.
terminal() {
  local name=$1 wait=$2
  shift 2
  : >"$shots/script"
  for command in "$@"; do
    printf 'printf "\\033[33m$\\033[0m %%s\\n" %q\n%s\necho\n' "$command" "$command" >>"$shots/script"
  done
  echo 'sleep 30' >>"$shots/script"
  xterm -geometry 158x46+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#fdfbf6' -fg '#1f2530' -xrm 'XTerm*color3: #94521f' -e bash "$shots/script" &
  local window=$!
  sleep "$wait"
  import -window root "$here/terminal-$name.png"
  kill "$window" && wait "$window" 2>/dev/null || true
}
terminal overview 2 "ironledger overview"
terminal device 2 "ironledger device show GF-L-1047" "ironledger device history GF-L-1050 --limit 4"
terminal ask 2 "ironledger ask birk.strand@gullholm.example chart-room --device GF-T-2107 --ip 10.40.1.3" "ironledger ask maren.holt@gullholm.example payroll --device GF-L-1042 --ip 192.0.2.44 --mfa=false"
terminal files 2 "ironledger appraise --rulebook demo/rulebook --evidence demo/devices.ndjson --at 2026-11-20T08:00:00Z | head -16" "rm -rf /tmp/house && cp -r demo/rulebook /tmp/house && sed -i '60,70s/os.version/os.versoin/; 52s/barred/bared/' /tmp/house/baselines.yaml" "ironledger rulebook check /tmp/house" "ironledger rulebook test demo/rulebook"
rm -rf /tmp/house && cp -r demo/rulebook /tmp/house && sed -i 's/check: passcode.set$/check: passcode.set and passcode.biometric/' /tmp/house/baselines.yaml
terminal rehearse 2 "ironledger rulebook diff current /tmp/house" "ironledger rulebook rehearse /tmp/house"
terminal decisions 2 "ironledger decision list --limit 12" "ironledger decision show \$(ironledger decision list --resource ticket-till --outcome deny --limit 1 -o csv | tail -1 | cut -d, -f1)"
terminal story 14 "ironledger demo --story"
