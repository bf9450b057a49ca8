#!/usr/bin/env bash
# Makes the pictures of the README from the demo's data, in a real terminal on a virtual screen.
# Needs: Xvfb, xterm, ImageMagick's import, and obrin on the PATH. Run from anywhere.
set -euo pipefail
here=$(cd "$(dirname "$0")/screenshots" && pwd)
work=$(mktemp -d)
export DISPLAY=:${SCREEN_NUMBER:-87}
Xvfb "$DISPLAY" -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $screen 2>/dev/null; (cd "$work/skerrow-ferries" && obrin practice stop >/dev/null 2>&1); rm -rf "$work"' EXIT
sleep 1

# shot NAME SECONDS COMMAND: run it in a terminal, wait for its end (SECONDS at least), take the picture.
shot() {
    rm -f "$work/done"
    xterm -fa 'DejaVu Sans Mono' -fs "${SIZE:-10}" -geometry 158x46+0+0 -bg '#101418' -fg '#d8dee4' \
        -b 8 -T obrin -e bash -c "cd '$work/${FOLDER:-skerrow-ferries}'; PS1='\$ '; echo '\$ $3'; $3; touch '$work/done'; sleep 600" &
    local terminal=$!
    sleep "$2"
    while [ ! -e "$work/done" ]; do sleep 0.2; done
    sleep 0.5
    import -window root "$here/$1.png"
    kill $terminal 2>/dev/null
    wait $terminal 2>/dev/null || true
}

cd "$work"
if [ $# -eq 0 ] || [[ " $* " == *" demo "* ]]; then
    FOLDER=. shot demo 30 'obrin demo'
else
    obrin demo >/dev/null
fi
want() { [ -z "${ONLY:-}" ] || [[ " $ONLY " == *" $1 "* ]]; }
want check && shot check 5 'obrin check --design draft.yaml'
want settle && (cd skerrow-ferries && rm design.settled.yaml) && shot settle 5 'obrin settle'
want space && (cd skerrow-ferries && obrin new --sites kiosks.csv --template kiosk.yaml --to kiosks.yaml >/dev/null && obrin settle --design kiosks.yaml >/dev/null) \
    && shot space 3 'obrin space --design kiosks.yaml' \
    && (cd skerrow-ferries && obrin draw space --design kiosks.yaml --to "$here/space-figure.png" >/dev/null) && shot explain 3 'obrin settle --explain clouds.timetable.space; obrin classes'
want agree && SIZE=9 shot agree 8 'obrin agree harbour-timetable --design draft.yaml; obrin agree; obrin overhead'
(cd skerrow-ferries && obrin settle --design ledger.yaml >/dev/null)
want device && SIZE=9 shot device 6 'obrin profiles; obrin agree slipway-ledger --design ledger.yaml | head -34'
want calendar && shot calendar 6 'obrin certificates list --design ledger.yaml; obrin calendar --design ledger.yaml'
(cd skerrow-ferries && obrin settle --design crossing.yaml >/dev/null)
want drill && SIZE=9 shot drill 6 'obrin routes hh-east; obrin trace harbour-house/counters timetable/booking tcp/443; obrin drill --kind circuit --kind zone --kind gateway --design crossing.yaml'
want drill && (cd skerrow-ferries && obrin draw drill --design crossing.yaml --to "$here/drill-figure.png" && obrin draw network --design crossing.yaml --to "$here/network.png") >/dev/null
want reshape && (cd skerrow-ferries && cp design.settled.yaml changed.settled.yaml \
    && sed 's/suite:  *# blank/suite: common/; s/\[counters, offices\]/[counters, offices, guests]/' design.yaml >changed.yaml \
    && obrin settle --design changed.yaml >/dev/null && obrin reshape --from design.yaml --design changed.yaml --figure "$here/reshape.png" >/dev/null)
want rehearse && (cd skerrow-ferries && obrin rehearse --design ledger.yaml --figure "$here/rehearsal.png" >/dev/null)
want sheet && (cd skerrow-ferries && obrin handover >/dev/null && sed 's/^\(suite-[a-z]*.lifetime.ike-sa.*\),".*$/\1,480/; s/^\(tunnels.remote-address.harbour-timetable\/north.*\),203.0.113.1$/\1,203.0.113.2/' packs/design/hh-east/values.csv >filled.csv) \
    && shot sheet 7 'sed -n "1,17p" packs/design/hh-east/sheet.md; echo; obrin compare hh-east filled.csv'
(cd skerrow-ferries && obrin practice start >/dev/null)
want connect && shot connect 8 'obrin connect'
(cd skerrow-ferries && obrin connect >/dev/null 2>&1)
want rotate && shot rotate 10 'obrin keys rotate --dry-run; obrin keys rotate; obrin probe | tail -3'
want probe && shot probe 12 'obrin probe; obrin probe --sizes'
(cd skerrow-ferries && obrin practice cut tunnel harbour-timetable/north >/dev/null && sleep 8)
want status && shot status 5 'obrin status'
