# The services behind drives (udev, D-Bus, UDisks2) for the tests that need the real ones. Sourced by check.
# Starts what is not there, as root alone can, and ends at the end what it has started.
started=()

services() {
  [ "$(id -u)" = 0 ] || return 0
  mkdir -p /run/dbus
  if ! udevadm control --ping --timeout=2 2>/dev/null; then
    /lib/systemd/systemd-udevd >/dev/null 2>&1 & started+=($!)
    udevadm trigger 2>/dev/null || true
    udevadm settle --timeout=10 2>/dev/null || true
  fi
  if ! dbus-send --system --dest=org.freedesktop.DBus / org.freedesktop.DBus.GetId >/dev/null 2>&1; then
    rm -f /run/dbus/pid
    dbus-daemon --system --nofork >/dev/null 2>&1 & started+=($!)
    for _ in 1 2 3 4 5 6 7 8 9 10; do [ -S /run/dbus/system_bus_socket ] && break; sleep 0.1; done
  fi
  if ! dbus-send --system --print-reply --dest=org.freedesktop.UDisks2 /org/freedesktop/UDisks2/Manager org.freedesktop.DBus.Peer.Ping >/dev/null 2>&1; then
    /usr/libexec/udisks2/udisksd >/dev/null 2>&1 & started+=($!)
    for _ in 1 2 3 4 5 6 7 8 9 10; do
      dbus-send --system --print-reply --dest=org.freedesktop.UDisks2 /org/freedesktop/UDisks2/Manager org.freedesktop.DBus.Peer.Ping >/dev/null 2>&1 && break
      sleep 0.2
    done
  fi
}

end_services() {
  local i
  for ((i = ${#started[@]} - 1; i >= 0; i--)); do kill "${started[i]}" 2>/dev/null || true; done
}
