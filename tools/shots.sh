#!/usr/bin/env bash
# Retakes the pictures in docs/screenshots/ from the demo's data: a terminal of 142 x 41, a page of 1280 x 800.
# Needs, from Debian: chromium xvfb xterm imagemagick poppler-utils fonts-dejavu-core
set -euo pipefail
cd "$(dirname "$0")/.."
for need in chromium Xvfb xterm import pdftoppm; do
  command -v "$need" >/dev/null || { echo "shots: $need is missing" >&2; exit 2; }
done
out=$PWD/docs/screenshots
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; rm -rf "$work"' EXIT
export PATH=$PWD/.venv/bin:$PATH
mkdir -p "$out"
cd "$work"

shoot_terminal() { # NAME SECONDS COMMAND: the picture is taken when the command has ended, or after SECONDS
  local name=$1 seconds=$2 command=$3
  printf "clear\nprintf '\\\\033[1;32m$\\\\033[0m %%s\\\\n' %q\nexport TERM=xterm-256color COLORTERM=truecolor\n%s\ntouch done\nsleep 60\n" \
    "$command" "$command" >script
  rm -f done number
  mkfifo number; exec 3<>number
  Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 & local screen=$!
  read -r shown <&3; exec 3>&-
  DISPLAY=:$shown xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 142x41+0+0 -b 8 -bg '#14181d' -fg '#dfe5ea' +sb -e bash script & local term=$!
  for _ in $(seq $((seconds * 10))); do [ -e done ] && break; sleep 0.1; done
  sleep 0.7
  DISPLAY=:$shown import -window root "$out/$name.png"
  kill "$term" "$screen" 2>/dev/null || true
  wait "$term" "$screen" 2>/dev/null || true
}

shoot_page() { # FILE ADDRESS [SIZE]
  chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-sync \
  --disable-component-update --hide-scrollbars --user-data-dir="$work/profile" --window-size="${3:-1280,800}" \
  --virtual-time-budget=4000 --screenshot="$1" "$2" >/dev/null 2>&1
}

rm -rf yellowtor-demo
shoot_terminal demo 60 'yellowtor demo'
shoot_page "$out/page.png" "file://$work/yellowtor-demo/cabinets.html"
doubtful=$(python -c 'import json; print(next(f["id"] for f in json.load(open("yellowtor-demo/cabinets.geojson"))["features"] if f["properties"]["outcome"] == "doubtful" and "Tarrock" in f["properties"]["asked"]))')
shoot_page "$out/popup.png" "file://$work/yellowtor-demo/cabinets.html#$doubtful"
cp yellowtor-demo/cabinets.png "$out/map.png"
chromium --headless --no-sandbox --disable-gpu --no-pdf-header-footer --user-data-dir="$work/profile" --virtual-time-budget=4000 \
  --print-to-pdf=print.pdf "file://$work/yellowtor-demo/cabinets.html" >/dev/null 2>&1
pdftoppm -r 75 -f 1 -l 2 -png print.pdf printed && convert printed-*1.png printed-*2.png -bordercolor '#9aa5ad' -border 12 +append "$out/print.png"
yellowtor stand-in >/dev/null 2>&1 & sleep 3
cd yellowtor-demo
rm -f drafted.toml
shoot_terminal draft 30 'yellowtor draft cabinets.xlsx --service stand-in.toml --into drafted.toml'
shoot_terminal preview 30 'yellowtor preview drafted.toml --show 2'
yellowtor review job.toml --to review.html >/dev/null 2>&1
shoot_page "$out/review.png" "file://$PWD/review.html#C-106"
sed '/^to = \["cabinets/d; /^columns = \[/d; /^\[\[markers.looks/,$d; s/cabinets-placed/bare-placed/; s/"cabinets\.\(geojson\|html\)/"bare.\1/; s/^fixed = .*//' job.toml >bare.toml
yellowtor run bare.toml >/dev/null 2>&1
shoot_terminal compare 30 'yellowtor compare job.toml bare.toml'
rm -f bare*
shoot_terminal explain 30 'yellowtor explain job.toml C-106'
shoot_terminal try 30 'yellowtor try "12 Tarrock Ter, Skelinstead, XT" --service stand-in-text.toml --ledger try.sqlite'
shoot_terminal quota 30 'yellowtor quota lamps.toml'
shoot_terminal reference 30 'yellowtor try "3 Kelp Raod, Dunvahlt" --service addresses.toml --show reading --ledger try.sqlite; yellowtor index addresses.toml --stats'
sed 's/^service = .*/services = ["stand-in.toml", "stand-in-geojson.toml"]\nnext = { spent = true }/; s/ledger.sqlite/several.sqlite/; s/"cabinets/"several/; s/"several.xlsx"/"cabinets.xlsx"/' job.toml >several.toml
sed -i 's/per_second = 40/per_second = 35/; s/per_day = 2500/per_day = 150/' stand-in*.toml
shoot_terminal several 60 'yellowtor run several.toml'
sed 's/ledger.sqlite/plan.sqlite/; s/stand-in.toml/slow.toml/' job.toml >plan.toml
sed 's/per_second = 35/per_second = 5/; s/per_day = 150/per_day = 60/' stand-in.toml >slow.toml
printf '\n[[allowance.prices]]\ncurrency = "EUR"\ntiers = [{ upto = 100, per_thousand = 0 }, { per_thousand = 4.5 }]\n' >>slow.toml
shoot_terminal plan 30 'yellowtor plan plan.toml --what-if day=100 --what-if day=none,pace=20 --png plan-curve.png'
cp plan-curve.png "$out"
shoot_terminal cache 30 'yellowtor cache find "tarock terrace 12" --job job.toml; yellowtor cache show 46 --job job.toml'
sed 's/town = "Town"/town = "City"/; s/coast.geojson/coats.geojson/' job.toml >night.toml
sed -i 's/_STANDIN_KEY=.*/_STANDIN_KEY=/' .env
shoot_terminal check 30 'yellowtor check night.toml'
ls -la "$out"
