# A folder in memory for the tests, which flush thousands of times. Sourced by check.
# Where there is no room or no right to mount, their files are on the disk. What is about a kind of drive makes its own.
in_memory=

memory() {
  local free; free=$(awk '/^MemAvailable/ {print int($2 / 1048576)}' /proc/meminfo)
  [ "$(id -u)" = 0 ] && [ "$free" -ge 6 ] || return 0
  in_memory=$(mktemp -d /tmp/fascis-tests.XXXXXX)
  mount -t tmpfs -o size=5g fascis-tests "$in_memory" 2>/dev/null || { rmdir "$in_memory"; in_memory=; }
}

end_memory() {
  [ -n "$in_memory" ] || return 0
  umount -l "$in_memory" && rmdir "$in_memory"
}
