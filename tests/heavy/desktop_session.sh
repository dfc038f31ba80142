#!/bin/bash
# A Wayland desktop without a monitor, its sound and its remote desktop service, as an ordinary user in a network
# that has nothing but loopback.
#   desktop_session.sh begin FOLDER PORT SIZE MODE      root, first process of the namespaces; MODE: mirror, extend
#   desktop_session.sh inside FOLDER PID WORD…          root, outside: runs something there as that user
set -u
here=$(dirname "$(readlink -f "$0")")
account=kw-test-desk
as_user() {
  local folder=$1; shift
  exec setpriv --reuid $account --regid $account --init-groups --inh-caps=-all \
    env -i PATH=/usr/local/bin:/usr/bin:/bin LANG=C.UTF-8 USER=$account HOME="$folder/home" SHELL=/bin/bash \
    XDG_RUNTIME_DIR="$folder/run" XDG_SESSION_TYPE=wayland "$@"
}
until_there() { for _ in $(seq 600); do [ -S "$1" ] && return; sleep .05; done; exit 1; }

desktop() {
  local folder=$1 port=$2 size=$3 mode=$4 log=$1/log monitor=()
  cd "$HOME" || exit 1
  pipewire >"$log/pipewire" 2>&1 &
  until_there "$XDG_RUNTIME_DIR/pipewire-0"
  wireplumber >"$log/wireplumber" 2>&1 &
  [ "$mode" = extend ] || monitor=(--virtual-monitor "$size")
  mutter --headless --wayland --no-x11 --wayland-display wayland-kw "${monitor[@]}" >"$log/mutter" 2>&1 &
  local compositor=$!
  until_there "$XDG_RUNTIME_DIR/wayland-kw"
  gdbus wait --session --timeout 30 org.gnome.Mutter.ScreenCast
  export WAYLAND_DISPLAY=wayland-kw
  printf '%s\n' "DBUS_SESSION_BUS_ADDRESS=$DBUS_SESSION_BUS_ADDRESS" "WAYLAND_DISPLAY=wayland-kw" >"$folder/run/env.new"
  mv "$folder/run/env.new" "$folder/run/env"
  python3 "$here/desktop_tools.py" seat >"$log/seat" 2>&1 &
  foot --font="DejaVu Sans Mono:size=9" --window-size-pixels=900x560 "$0" show >"$log/terminal" 2>&1 &
  {
    gsettings set org.gnome.desktop.remote-desktop.rdp screen-share-mode \
      "$([ "$mode" = extend ] && echo extend || echo mirror-primary)"
    grdctl --headless rdp set-tls-cert "$HOME/cert.pem"
    grdctl --headless rdp set-tls-key "$HOME/key.pem"
    grdctl --headless rdp set-credentials kw-guest Fern-House-7
    grdctl --headless rdp disable-view-only
    grdctl --headless rdp enable
  } >"$log/settings" 2>&1
  # It ends by itself now and then when a visitor leaves; the next one finds it again.
  while kill -0 $compositor; do /usr/libexec/gnome-remote-desktop-daemon --headless --rdp-port "$port"; done \
    >"$log/service" 2>&1 &
  wait $compositor
}

show() {  # colours that go over into each other, plain ones, a line of text; then what is typed
  printf '\e[?25l\e[2J\e[H'
  for row in $(seq 0 7); do
    for column in $(seq 0 79); do
      printf '\e[48;2;%d;%d;%dm ' $((column * 255 / 79)) $((row * 36)) $((255 - column * 255 / 79))
    done
    printf '\e[0m\n'
  done
  for colour in 41 42 43 44 45 46 47 100; do printf '\e[%sm        ' $colour; done
  printf '\e[0m\n\nAlder Vale 0123456789\n'
  exec cat
}

case ${1:-} in
  begin)
    ip link set lo up
    # Not in place of this process: a change of account would untie it from who began it, and it would outlive him.
    as_user "$2" dbus-run-session -- "$0" desktop "$2" "$3" "$4" "$5" &
    wait ;;
  desktop) shift; desktop "$@" ;;
  show) show ;;
  inside)
    folder=$2 pid=$3; shift 3
    mapfile -t known <"$folder/run/env"
    exec nsenter --target "$pid" --net --pid --mount --root -- "$0" as "$folder" "${known[@]}" "$@" ;;
  as) shift; as_user "$@" ;;
  *) sed -n '2,/^set -u/p' "$0" | sed '$d; s/^# \{0,1\}//'; exit 2 ;;
esac
