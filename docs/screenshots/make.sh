#!/usr/bin/env bash
# Draws the pictures of the README anew: the built program on the demo's machines, in an xterm on a virtual display.
# Needs the Debian packages xvfb, xauth, xterm, xdotool, imagemagick, curl and fonts-dejavu-core.
set -euo pipefail
cd "$(dirname "$0")/../.."
cargo build --quiet --locked
lantern=$PWD/target/debug/lantern
pictures=$PWD/docs/screenshots
work=$(mktemp -d)
export DISPLAY=:77
export XAUTHORITY=$work/authority
xauth -q add $DISPLAY . "$(openssl rand -hex 16)" 2>/dev/null
Xvfb $DISPLAY -screen 0 1280x800x24 -auth "$XAUTHORITY" +extension SECURITY -nolisten tcp >/dev/null 2>&1 &
server=$!
until xdotool getmouselocation >/dev/null 2>&1; do sleep 0.1; done
demo=
trap 'kill $demo $server 2>/dev/null; wait 2>/dev/null; rm -rf "$work"' EXIT

mkdir "$work/bin"
ln -s "$lantern" "$work/bin/lantern"
export PATH=$work/bin:$PATH PS1='% '

# picture NAME SCRIPT [KEYS…]: runs a script in an xterm that fills the display, types keys, and takes a picture.
picture() {
    printf '%s\n' "$2" 'sleep 1000' >"$work/script"
    local size=${small:+10}
    xterm -fa 'DejaVu Sans Mono' -fs "${size:-11}" -bg '#11151c' -fg '#d8dee9' -geometry "${small:-141x41}+0+0" -b 8 -bw 0 +sb \
        -e bash "$work/script" &
    local term=$!
    sleep "${wait:-3}"
    xdotool mousemove 600 400
    local keys
    # One word a stroke or a text: `ctrl+backslash` is pressed, everything else is typed.
    for keys in "${@:3}"; do
        if [[ $keys == ctrl+* ]]; then xdotool key "$keys"; else xdotool type --delay 30 "$keys"; fi
        sleep 0.3
    done
    sleep 1
    import -window root "$pictures/$1.png"
    kill $term
    wait $term 2>/dev/null || true
}

show='show() { printf "%% %s\n" "$*"; "$@"; local code=$?; ((code)) && echo "(exit code $code)"; echo; }'

picture demo 'lantern demo --no-pause'
# The console's side of it is the demo's.
lantern demo --no-pause </dev/null >"$work/walk" 2>&1
small=157x46 picture prepare "sed -n '/^14[.] /,/^15[.] /{/^15/d;p}' $work/walk"

lantern demo --stay --no-walk >"$work/demo" &
demo=$!
until grep -q LANTERN_HOME "$work/demo"; do sleep 0.1; done
LANTERN_HOME=$(sed -n 's/.*export LANTERN_HOME=//p' "$work/demo")
export LANTERN_HOME

# The certificate is for another name than the one that is dialed.
lantern machine set chart-room certificate-name= --quiet
picture windows "$show; show lantern machine show chart-room; show lantern run chart-room -- ipconfig"
lantern machine set chart-room certificate-name=chart-room --quiet
lantern trust accept chart-room --expect "$(lantern trust look chart-room --json | sed -n '0,/fingerprint/s/.*"fingerprint": "\(.*\)".*/\1/p')" --quiet
port=$(lantern machine show chart-room --json | sed -n 's/.*"port": \([0-9]*\).*/\1/p' | head -1)
lantern certificate new-authority house --for chart-room --plain --quiet >/dev/null
picture certificates "$show; show lantern certificate issue chart-room --plain; show lantern certificate show 127.77.1.15:$port --no-questions; show lantern certificate audit"
picture session "$show; show lantern run chart-room --password-from 'command:echo high water' --expression 'Get-Lamp' --json; show lantern shell chart-room --password-from 'command:echo high water'" \
    $'Get-Serv\t\n' $'Confirm-Lamp\n' $'n\n' $'Get-Lamp nobody\n' $'Write-Progress Counting "the lamps" -PercentComplete 62 -SecondsRemaining 8; Start-Sleep 1; Write-Progress Counting -PercentComplete 66; Start-Sleep 9\n'
lantern trust forget chart-room --yes --quiet
# The machines' real fingerprints stand in what a scan prints.
trust() { lantern trust accept "$1" --expect "$(lantern trust look "$1" --json | sed -n '0,/fingerprint/s/.*"fingerprint": "\(.*\)".*/\1/p')" --quiet; }
trust lamp-01 || true
trust lamp-02 || true
trust foghorn || true
trust signal-hut || true
trust harbour-gate || true
trust pier-lamp || true
trust fog-bell || true
mkdir -p "$work/site/img"
for number in 1 2 3; do echo "chart $number" >"$work/site/img/c$number.svg"; done
wait=7 picture copy "cd $work; $show; show lantern copy site lamp-01:/srv/ --verify; show lantern copy site lamp-01:/srv/; show lantern copy 'lamp-0*,signal-hut:*.txt' logs/; rm site/img/c2.svg; show lantern copy site lamp-01:/srv/site --mirror --plan; show lantern files list lamp-01:/srv --tree; show lantern files list lamp-01:; mkdir here; show lantern mount lamp-01:/srv here; show grep -r chart here; show lantern unmount here"
printf 'flash = "group (2) every 10 s"\nrange = "9 nautical miles"\n' >"$work/other.conf"
lantern copy "$work/other.conf" signal-hut:lamp.conf --replace-newer --quiet
wait=5 picture many "$show; lantern machine set lamp-02 port=2299 --quiet; show lantern run 'lamp-*,signal-hut,harbour-gate,pier-lamp,fog-bell' -- cat lamp.conf; lantern machine set lamp-02 port=2222 --quiet; show lantern run --again failed; show lantern run 'lamp-*,signal-hut,harbour-gate,pier-lamp,fog-bell' --at-once 4 -- slow 60"
# Somebody else changes the file while the editor is open.
printf '#!/bin/sh\nsed -i s/18/17/ "$1"; sleep 2; lantern copy %s/other.conf lamp-01:lamp.conf --replace-newer --quiet; sed -i s/third/second/ "$1"\n' "$work" >"$work/editor"
chmod 755 "$work/editor"
wait=7 picture edit "$show; export EDITOR=$work/editor; show lantern edit lamp-01:lamp.conf; show lantern files show lamp-01:lamp.conf --no-pager" $'mine\n'
picture window "$show; lantern machine set lamp-01 forward-display=true --quiet; show lantern machine show lamp-01; show lantern check lamp-01; show lantern run lamp-01 -- lamp-view"
lantern machine set lamp-01 forward-display= --quiet
lantern run foghorn --key harbour --no-questions -- true >/dev/null 2>&1 || true
picture run "$show; show lantern run lamp-01 -- cat tides.csv; show lantern run lamp-01 -- fail 3; show lantern run lamp-01 -- crash; show lantern run signal-hut --no-questions -- whoami; show lantern run keeper@127.77.0.200:2222 -- whoami; show lantern run keeper@nowhere.invalid:22 -- whoami; show lantern run foghorn --no-questions -- whoami"
# A ring as it grows over the years, and a folder as it is found.
lantern key new pier --comment 'second floor' --passphrase-from fd:3 --quiet >/dev/null 3<<<'twelve green lamps'
lantern key new old-beacon --algorithm rsa-2048 --plain --comment 'for the old beacon' --quiet >/dev/null
mkdir -p "$work/downloads"
openssl genrsa -traditional -out "$work/downloads/console.pem" 2048 2>/dev/null
chmod 644 "$work/downloads/console.pem"
openssl ecparam -name prime256v1 -genkey -noout | openssl ec -aes128 -passout pass:lamp -out "$work/downloads/gauge.pem" 2>/dev/null
cp "$work/downloads/console.pem" "$work/downloads/host.pub"
lantern key install pier lamp-01 --passphrase-from fd:3 --quiet 3<<<'twelve green lamps'
picture keys "$show; show lantern key list; show lantern key import $work/downloads/console.pem --name console --plain; show lantern key convert pier --public --to rfc4716; show lantern key convert old-beacon --to pkcs8-pem --out $work/old-beacon.pem; show lantern key rotate harbour --plan"
lantern key remove console --yes --quiet
# What is in the ring is in the pictures before; here is the folder.
picture key-audit "cd $work; $show; show lantern --home $work/empty key audit --path downloads"
lantern keeper start --quiet
lantern keeper add pier --lifetime 8h --passphrase-from fd:3 --quiet 3<<<'twelve green lamps'
lantern keeper add harbour --quiet
picture keeper "$show; show lantern keeper status; show lantern run lamp-01 --key pier -- whoami; show lantern run lamp-01 --key pier --no-agent --no-questions -- whoami"
# What is open: one in the foreground, and those that the keeper holds.
picture tunnel-list "$show; show lantern tunnel open signal-hut --keep; curl -sk https://127.0.0.1:8443/ >/dev/null; sleep 1; show lantern tunnel list; show lantern tunnel probe signal-hut; show lantern run signal-hut -- hostname; show lantern keeper status; lantern tunnel close signal-hut; show lantern tunnel open signal-hut --local 22222 --to 127.0.0.1:443 -- sh -c 'curl -sk https://\$LANTERN_TUNNEL_LOCAL/'"
lantern keeper stop --quiet
picture check "$show; show lantern check pier-lamp; show lantern check 'lamp-*,signal-hut,tide-gauge,pier-lamp' --no-questions"
lantern machine add lamp-09 keeper@127.77.0.9:2222 --quiet
# The chain of errors of TLS: asked of the wrong port, nothing there, a certificate that nobody knows.
port=$(lantern machine show chart-room --json | sed -n 's/.*"port": \([0-9]*\).*/\1/p' | head -1)
small=157x46 picture check-failed "$show; lantern machine set chart-room plain=private-network port=$port --quiet; show lantern check chart-room --no-questions; lantern machine set chart-room plain= port=$port certificate-name= --quiet; show lantern check chart-room --no-questions; lantern trust accept chart-room --expect \$(lantern trust look chart-room --json | sed -n '0,/fingerprint/s/.*\"fingerprint\": \"\(.*\)\".*/\1/p') --quiet; show lantern check chart-room --no-questions"
lantern machine remove lamp-09 --yes --quiet
lantern profile add pier gateway=harbour-gate trust=known-only key=harbour --quiet
lantern machine set pier-lamp,fog-bell profiles=pier gateway= key= --yes --quiet
picture machines "$show; show lantern machine list; show lantern machine show pier-lamp; show lantern machine add lamp-07 --paste 'ssh -i lamp.pem -p 2222 -J warden@192.0.2.30 keeper@192.0.2.17' --yes"
lantern machine remove lamp-07 --yes --quiet || true
picture trust "$show; show lantern trust list; show lantern trust look @coast,signal-hut; show lantern trust show lamp-01; show lantern trust audit"
