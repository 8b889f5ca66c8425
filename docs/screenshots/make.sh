#!/bin/sh
# Makes the pictures of this folder anew from the demo: what a terminal 1280 pixels wide shows.
set -eu
cd "$(dirname "$0")/../.."
./setup.sh xterm:xterm Xvfb:xvfb import:imagemagick chromium:chromium
work=/tmp/pictures
rm -rf $work
mkdir $work
cp bin/oakbarrel $work
pictures=$PWD/docs/screenshots
cd $work
./oakbarrel demo --rate 300 >demo.txt &
demo=$!
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $demo $screen; wait; rm -rf $work' EXIT
sleep 40
export DISPLAY=:97 PATH="$work:$PATH"

# picture NAME COMMAND: runs the command in a terminal and takes a picture of it.
picture() {
  {
    printf 'printf "\\033[?25l\\033[1m$ "\ncat <<"END"\n%s\nEND\nprintf "\\033[0m\\n"\n' "$2"
    printf '%s\nsleep 20\n' "$2"
  } >run
  xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x47+0+0 -b 8 -bg '#faf6ee' -fg '#2b2520' -e sh run &
  terminal=$!
  sleep 4
  import -window root -depth 8 all.png
  kill $terminal
  wait $terminal || true
  convert all.png -crop 1278x797+1+1 +repage -fuzz 1% -trim +repage -bordercolor '#faf6ee' -border 14 "$pictures/$1.png"
}

sed 's/: {text}/: {txt}/; s/keep: forever/keep: always/; s/severity at most info/severity at most inof/; s/every: hour/every: midnight/; s/\[pumps, /[pump, /' \
  lantern-bay/reef-02/plan.yaml >broken.yaml
picture status 'oakbarrel status --state lantern-bay/reef-02/state'
picture show 'oakbarrel show everything --state lantern-bay/tide-gw/state --where "severity at least warning" --last 12'
picture explain "oakbarrel plan explain lantern-bay/tide-gw/plan.yaml --line '<131>1 - kelp-01 ticketd 2201 - [sale@32473 order=\"4471\"] order 4471 failed: timeout'"
picture check 'oakbarrel plan check broken.yaml'
picture forecast 'oakbarrel forecast --state lantern-bay/reef-02/state; oakbarrel plan preview lantern-bay/reef-02/plan.yaml pumps'
picture verify 'oakbarrel roll pumps --state lantern-bay/reef-02/state; sleep 1; oakbarrel verify pumps --state lantern-bay/reef-02/state; tail -1 lantern-bay/reef-02/logs/pumps.log.tally'
picture followed 'oakbarrel followed --state lantern-bay/reef-02/state; oakbarrel followed --state lantern-bay/tide-gw/state'
picture containers 'oakbarrel containers --state lantern-bay/tide-gw/state'
grep -n -A8 -B3 -m1 ERROR lantern-bay/reef-02/planner/planner.log | sed 's/^[0-9]*[:-]//' >sample.log
picture try 'oakbarrel plan try lantern-bay/reef-02/plan.yaml --intake feeds --file sample.log'
eval "$(grep -o 'export OAKBARREL.*' demo.txt)"
picture read "oakbarrel read --since 1h --where 'severity at least error' --limit 3; echo; oakbarrel count --since 1h --where 'severity at least error' --by app; echo; oakbarrel shapes --since 30m --limit 8"

cd "$pictures/../.."
OAKBARREL_PICTURES=$work go test -count=1 ./e2e -run Pictures
cp $work/console-today-light.png $work/console-logs-dark.png $work/console-plans-light.png $work/console-host-dark.png $work/console-fleet-light.png $work/console-rollout-dark.png $work/console-cask-light.png $work/console-shapes-light.png $work/console-alert-light.png docs/screenshots
